// Documents: how each was parsed, where the labelled answers stand, and how files come in.
import { useState } from "react";
import { Button } from "react-bootstrap";
import type { Asked } from "../../api/client";
import { useImport } from "./api";
import { running, useDocument, useDocuments } from "../../api/queries";
import { Empty, Shown } from "../../shell/states";
import { DocumentList } from "./DocumentList";
import { ImportPanel } from "./ImportPanel";
import { LostLabels } from "./LostLabels";
import { OpenDocument } from "./OpenDocument";
import { Reader, type MarkedRange } from "./Reader";

export function Documents() {
  const documents = useDocuments();
  const job = useImport().data?.job;
  const [chosen, setChosen] = useState<number | null>(null);
  const [importing, setImporting] = useState(false);
  return (
    <>
      <div className="head d-flex align-items-center gap-3">
        <h2 className="serif">Documents</h2>
        <span className="small-text soft">As they were parsed, with labelled answers marked.</span>
        <Button size="sm" className="ms-auto" onClick={() => setImporting(true)}>
          {job && running(job) ? `Importing, ${job.done} of ${job.total}` : "Import"}
        </Button>
      </div>
      <div className="body documents-body">
        <LostLabels />
        <Shown query={documents} what="Reading the documents">
          {(rows) =>
            rows.length === 0 ? (
              <Empty title="No documents yet">
                Import files, a folder or a ZIP archive: Markdown, HTML, text, CSV, JSONL, DOCX or PDF.
              </Empty>
            ) : (
              <div className="documents-split">
                <DocumentList rows={rows} chosen={chosen ?? rows[0]!.id} choose={setChosen} />
                <OneDocument number={rows.some((row) => row.id === chosen) ? chosen! : rows[0]!.id} />
              </div>
            )
          }
        </Shown>
      </div>
      {importing && <ImportPanel close={() => setImporting(false)} />}
    </>
  );
}

function OneDocument({ number }: { number: number }) {
  const document = useDocument(number);
  return (
    <Shown query={document} what="Opening the document">
      {(data) => <OpenDocument key={data.id} document={data} />}
    </Shown>
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
