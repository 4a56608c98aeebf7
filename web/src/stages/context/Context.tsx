// Context: what the assistant gets, within its budget.
import { Table } from "react-bootstrap";
import { useQuestions } from "../../api/queries";
import { useGo } from "../../shell/pin";
import { Measured, Shown } from "../../shell/states";
import { percent } from "../../text/numbers";
import { Bars } from "../shared/Bars";
import { Figures, StageHead } from "../shared/Figures";
import { Answers } from "./Answers";
import { EmptyBelow } from "./EmptyBelow";
import { Variety } from "./Variety";

export function Context() {
  const questions = useQuestions();
  const go = useGo();
  return (
    <>
      <StageHead title="Context">
        The passages that are handed to the assistant. “Nothing found” beats a wrong passage: unanswerable
        questions should end with an empty context.
      </StageHead>
      <div className="body">
        <Measured>
          <Shown query={questions} what="Reading the trial">
            {(rows) => {
              const real = rows.filter((row) => row.answerable);
              const none = rows.filter((row) => !row.answerable);
              const delivered = real.filter((row) => row.cause === "delivered");
              const at = (rank: number) => delivered.filter((row) => row.ranks.context === rank).length;
              const highest = Math.max(5, ...delivered.map((row) => row.ranks.context ?? 0));
              return (
                <>
                  <Figures
                    rows={[
                      [`${delivered.length} of ${real.length}`, "answerable questions delivered"],
                      [percent(at(1) / Math.max(real.length, 1)), "with an answer in the first passage"],
                      [
                        `${none.filter((row) => row.cause === "rightly empty").length} of ${none.length}`,
                        "unanswerable questions left empty",
                      ],
                    ]}
                  />
                  <Answers />
                  <EmptyBelow />
                  <Variety />
                  <div className="split two" style={{ height: "auto" }}>
                    <div>
                      <h3>Which passage brings the answer</h3>
                      <Bars
                        tone="var(--context)"
                        data={[
                          ...Array.from({ length: highest }, (_, k) => ({
                            name: String(k + 1),
                            value: at(k + 1),
                          })),
                          { name: "none", value: real.length - delivered.length },
                        ]}
                        x="place of the first passage with an answer"
                        y="questions"
                      />
                    </div>
                    <div>
                      <h3>No answer exists, yet passages were packed</h3>
                      <Table size="sm" hover className="small-text">
                        <tbody>
                          {none
                            .filter((row) => row.cause === "wrongly filled")
                            .map((row) => (
                              <tr
                                key={row.id}
                                role="button"
                                tabIndex={0}
                                onClick={() => go({ pin: { question: row.id, text: null } })}
                                onKeyDown={(event) =>
                                  event.key === "Enter" && go({ pin: { question: row.id, text: null } })
                                }
                              >
                                <td>{row.text}</td>
                              </tr>
                            ))}
                        </tbody>
                      </Table>
                      <p className="small-text soft">
                        Where the scorer says how likely a question is answered at all, the recipe&apos;s
                        context can stay empty below a probability; a floor drops single passages.
                      </p>
                    </div>
                  </div>
                </>
              );
            }}
          </Shown>
        </Measured>
      </div>
    </>
  );
}
