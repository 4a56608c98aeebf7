// Documents: how each was parsed, and where the labelled answers stand.
import { useState } from "react";
import { Table } from "react-bootstrap";
import type { Asked } from "../../api/client";
import { useDocument, useDocuments, useDocumentView } from "../../api/queries";
import { useGo } from "../../shell/pin";
import { Empty, Shown } from "../../shell/states";
import { StageHead } from "../shared/Figures";
import { Reader, type MarkedRange } from "./Reader";

export function Documents() {
  const documents = useDocuments();
  const [chosen, setChosen] = useState<number | null>(null);
  return (
    <>
      <StageHead title="Documents">
        As they were parsed: text, headings, list items and table rows. Labelled answers are marked in the
        text.
      </StageHead>
      <div className="body">
        <Shown query={documents} what="Reading the documents">
          {(rows) => (
            <div className="split" style={{ gridTemplateColumns: "minmax(0,1.1fr) minmax(0,1fr)" }}>
              <div>
                <Table size="sm" hover className="small-text">
                  <thead>
                    <tr>
                      <th>Document</th>
                      <th className="text-end">Words</th>
                      <th className="text-end">Sections</th>
                      <th className="text-end">Blocks</th>
                    </tr>
                  </thead>
                  <tbody className="num">
                    {rows.map((row) => (
                      <tr
                        key={row.id}
                        role="button"
                        tabIndex={0}
                        className={row.id === (chosen ?? rows[0]?.id) ? "table-active" : ""}
                        onClick={() => setChosen(row.id)}
                        onKeyDown={(event) => event.key === "Enter" && setChosen(row.id)}
                      >
                        <td>
                          {row.title}
                          <div className="soft mono">{row.name}</div>
                        </td>
                        <td className="text-end">{row.words.toLocaleString()}</td>
                        <td className="text-end">{row.sections}</td>
                        <td className="text-end">{row.blocks}</td>
                      </tr>
                    ))}
                  </tbody>
                </Table>
              </div>
              <OneDocument number={chosen ?? rows[0]?.id ?? null} />
            </div>
          )}
        </Shown>
      </div>
    </>
  );
}

function OneDocument({ number }: { number: number | null }) {
  const document = useDocument(number);
  const view = useDocumentView(number);
  const go = useGo();
  if (number === null) return <Empty title="No documents yet" />;
  const marks = (view.data?.answers ?? []).flatMap<MarkedRange>((answer) =>
    answer.start === null || answer.end === null
      ? []
      : [{ start: answer.start, end: answer.end, kind: "answer" }],
  );
  return (
    <div>
      <Shown query={document} what="Opening the document">
        {(data) => (
          <>
            {view.data && view.data.answers.length > 0 && (
              <div className="notice mb-2" style={{ "--tone": "var(--answer)" } as React.CSSProperties}>
                {view.data.answers.length} labelled answers here:{" "}
                {view.data.answers.slice(0, 6).map((answer, place) => (
                  <span key={`${answer.question}-${answer.start}`}>
                    {place > 0 && ", "}
                    <a
                      href={`/line/documents?q=${answer.question}`}
                      onClick={(event) => {
                        event.preventDefault();
                        go({ pin: { question: answer.question, text: null } });
                      }}
                    >
                      {answer.text}
                    </a>
                  </span>
                ))}
                {view.data.answers.length > 6 && ` and ${view.data.answers.length - 6} more`}
              </div>
            )}
            <Reader document={data} marks={marks} />
          </>
        )}
      </Shown>
    </div>
  );
}

export function DocumentsPinned({ asked }: { asked: Asked }) {
  const [chosen, setChosen] = useState(0);
  const span = asked.spans[chosen];
  const document = useDocument(span?.document ?? null);
  if (!span)
    return (
      <Empty title={asked.question ? "No document answers this question" : "A typed question has no label"}>
        {asked.question
          ? "It is labelled as unanswerable: the right result is an empty context."
          : "Look at the later stages to see what was found for it."}
      </Empty>
    );
  const marks = asked.spans
    .filter((other) => other.document === span.document && other.start !== null && other.end !== null)
    .map<MarkedRange>((other) => ({
      start: other.start!,
      end: other.end!,
      kind: other === span ? "pinned" : "answer",
    }));
  return (
    <div className="split list-reader">
      <div>
        <h3>
          {asked.spans.length === 1
            ? "The answer"
            : `${asked.spans.length} places that answer it; any one is enough`}
        </h3>
        {asked.spans.map((row, place) => (
          <button
            type="button"
            key={place}
            className="hit relevant"
            style={{ gridTemplateColumns: "1fr" }}
            aria-pressed={place === chosen}
            onClick={() => setChosen(place)}
          >
            <strong>{row.title}</strong>
            <span className="small-text soft">
              {row.section[row.section.length - 1]}, grade {row.grade}
            </span>
            <span className="small-text serif">{row.text.slice(0, 220) || "the whole document"}</span>
          </button>
        ))}
      </div>
      <div>
        <Shown query={document} what="Opening the document">
          {(data) => <Reader key={chosen} document={data} marks={marks} show={span.start ?? 0} />}
        </Shown>
      </div>
    </div>
  );
}
