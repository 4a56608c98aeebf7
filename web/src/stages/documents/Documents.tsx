// Documents: how each was parsed, where the labelled answers stand, and how files come in.
import { useState } from "react";
import { Button } from "react-bootstrap";
import { useSearchParams } from "react-router";
import { useImport } from "./api";
import { running, useDocument, useDocuments } from "../../api/queries";
import { Empty, Shown } from "../../shell/states";
import { useMay } from "../../shell/workspace";
import { DocumentList } from "./DocumentList";
import { ImportPanel } from "./ImportPanel";
import { LostLabels } from "./LostLabels";
import { OpenDocument } from "./OpenDocument";

export function Documents() {
  const documents = useDocuments();
  const job = useImport().data?.job;
  const named = useSearchParams()[0].get("doc");
  const [chosen, setChosen] = useState<number | null>(named ? Number(named) : null);
  const mayEdit = useMay("editor");
  const [importing, setImporting] = useState(false);
  return (
    <>
      <div className="head d-flex align-items-center gap-3">
        <h2 className="serif">Documents</h2>
        <span className="small-text soft">As they were parsed, with labelled answers marked.</span>
        {mayEdit && (
          <Button size="sm" className="ms-auto" onClick={() => setImporting(true)}>
            {job && running(job) ? `Importing, ${job.done} of ${job.total}` : "Import"}
          </Button>
        )}
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
