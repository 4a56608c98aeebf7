// Context: what the assistant gets, within its budget.
import { Table } from "react-bootstrap";
import type { Asked, TracedChunk } from "../../api/client";
import { useLine, useQuestions } from "../../api/queries";
import { useGo } from "../../shell/pin";
import { Empty, Measured, Shown } from "../../shell/states";
import { mark, pictureKeys } from "../../shell/pictureKeys";
import { percent, score } from "../../text/numbers";
import { Bars } from "../shared/Bars";
import { Figures, StageHead } from "../shared/Figures";
import { Passage } from "../shared/Passage";
import { EmptyBelow } from "./EmptyBelow";
import { Judged } from "../../labels/Judged";
import { chunksByNumber, place, stageOfKind } from "../shared/trace";

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
                  <EmptyBelow />
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

const hostOf = (chunk: TracedChunk) => `${chunk.document} ${chunk.host?.start ?? chunk.start}`;

/** Fields of the source that were not searched and are handed on. */
function Carried({ chunk }: { chunk: TracedChunk }) {
  const fields = Object.entries(chunk.carried);
  if (!fields.length) return null;
  return (
    <dl className="carried-fields small-text">
      {fields.map(([name, value]) => (
        <div key={name}>
          <dt>{name}</dt>
          <dd>{value}</dd>
        </div>
      ))}
    </dl>
  );
}

/** How likely the question is answered at all, and below what the context stays empty. */
function Answered({ answered, least }: { answered: number | null; least: number | null }) {
  if (answered === null) return null;
  const empty = least !== null && answered < least;
  return (
    <p className="small-text num mb-2">
      That anything here answers: probability <strong>{score(answered)}</strong>
      {least !== null && (
        <span className={empty ? "lost" : "soft"}>
          {empty ? `, below ${score(least)}: the context is left empty` : `; empty below ${score(least)}`}
        </span>
      )}
    </p>
  );
}

export function ContextPinned({ asked }: { asked: Asked }) {
  const line = useLine();
  const chunks = chunksByNumber(asked);
  const stage = stageOfKind(asked, "context");
  const select = line.data?.recipe.body.select;
  if (!stage) return <Empty title="Nothing was packed" />;
  if (stage.chunks.length === 0)
    return (
      <Empty title="Nothing found">
        No passage reached the context: the assistant says that it does not know.
        <Answered answered={asked.trace.answered} least={select?.empty_below ?? null} />
      </Empty>
    );
  const first = new Map<string, number>();
  stage.chunks.forEach((number, row) => {
    const chunk = chunks.get(number);
    if (chunk && stage.kept[row] && !first.has(hostOf(chunk))) first.set(hostOf(chunk), row);
  });
  const cost = (row: number, chunk: TracedChunk) =>
    stage.kept[row] && first.get(hostOf(chunk)) !== row ? 0 : chunk.handed;
  const budget = select?.budget_tokens ?? asked.trace.tokens;
  return (
    <>
      <h3 className="num">
        {stage.kept.filter(Boolean).length} passages, {asked.trace.tokens.toLocaleString()} of{" "}
        {budget.toLocaleString()} tokens
      </h3>
      <Answered answered={asked.trace.answered} least={select?.empty_below ?? null} />
      <div
        className="budget mb-3"
        role="group"
        aria-label={`${asked.trace.tokens} of ${budget} tokens used`}
        aria-description="Each part is a passage; arrow keys go from one to the next, Enter goes to it."
        onKeyDown={pictureKeys}
      >
        {stage.chunks.map((number, row) => {
          const chunk = chunks.get(number);
          return stage.kept[row] && chunk ? (
            <span
              key={number}
              title={`passage ${row + 1}: ${cost(row, chunk)} tokens`}
              {...mark(
                `passage ${row + 1}: ${cost(row, chunk)} tokens${chunk.relevant ? ", holds an answer" : ""}`,
                row === stage.kept.indexOf(true),
              )}
              onClick={() =>
                document.getElementById(`passage-${number}`)?.scrollIntoView({ block: "center" })
              }
              style={{
                width: `${(100 * cost(row, chunk)) / budget}%`,
                background: chunk.relevant ? "var(--answer)" : "var(--pale)",
              }}
            />
          ) : null;
        })}
      </div>
      <div style={{ maxWidth: "54rem" }}>
        {stage.chunks.map((number, row) => {
          const chunk = chunks.get(number);
          if (!chunk) return null;
          return (
            <div
              key={number}
              id={`passage-${number}`}
              className="card-passage mb-2"
              data-place={`${chunk.document}:${chunk.start}:${chunk.end}`}
              style={{ opacity: stage.kept[row] ? 1 : 0.55 }}
            >
              <div className="d-flex small-text soft num mb-1">
                <strong className={chunk.relevant ? "gain me-2" : "me-2"}>{row + 1}</strong>
                <span>
                  {place(chunk)}
                  <Judged chunk={chunk} />
                </span>
                <span className="ms-auto">
                  {cost(row, chunk)} tokens,{" "}
                  {stage.probability
                    ? `answers with probability ${score(stage.probability[row] ?? 0)}`
                    : `${stage.measure.split(",")[0]} ${score(stage.scores[row] ?? 0)}`}
                  {stage.reasons[row] && <span className="lost"> {stage.reasons[row]}</span>}
                </span>
              </div>
              {first.get(hostOf(chunk)) === row || !stage.kept[row] ? (
                <>
                  <Passage chunk={chunk.host ? { ...chunk, ...chunk.host } : chunk} />
                  {chunk.host && (
                    <div className="small-text soft mt-1">
                      Handed on: the host around chunk {chunk.number}, which was the one found.
                    </div>
                  )}
                  <Carried chunk={chunk} />
                </>
              ) : (
                <div className="small-text soft">
                  Chunk {chunk.number} stands in the host of passage {(first.get(hostOf(chunk)) ?? 0) + 1}; it
                  is handed on once.
                </div>
              )}
            </div>
          );
        })}
      </div>
    </>
  );
}
