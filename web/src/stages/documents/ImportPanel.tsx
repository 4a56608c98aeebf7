// Bringing files in: choose or drop them, say what the fields of tables are, watch each one arrive.
import { useEffect, useRef, useState } from "react";
import { Button, Offcanvas } from "react-bootstrap";
import { Progress } from "../../shell/Progress";
import {
  useBeginImport,
  useImport,
  useStageFiles,
  useStartImport,
  type Import,
  type ImportedFile,
} from "./api";
import { JobBar } from "../../shell/JobBar";
import { bytes } from "../../text/numbers";
import { chosen, dropped, type Named } from "./dropped";
import { FieldsForm } from "./FieldsForm";

const WORDS: Record<ImportedFile["state"], string> = {
  waiting: "waits",
  opened: "opened",
  shown: "in a page",
  added: "added",
  replaced: "new version",
  same: "there already",
  refused: "refused",
};

export function ImportPanel({ close }: { close: () => void }) {
  const last = useImport();
  const begin = useBeginImport();
  const send = useStageFiles();
  const start = useStartImport();
  const [number, setNumber] = useState<number | null>(null);
  const [staged, setStaged] = useState<ImportedFile[]>([]);
  const [sending, setSending] = useState<{ done: number; total: number } | null>(null);
  const [over, setOver] = useState(false);
  const problem = begin.error ?? send.error ?? start.error;

  async function take(files: Named[]) {
    if (!files.length) return;
    const total = files.reduce((sum, { file }) => sum + file.size, 0);
    setSending({ done: 0, total });
    try {
      const into = number ?? (await begin.mutateAsync()).id;
      setNumber(into);
      const rows = await send.mutateAsync({
        number: into,
        files,
        sent: (done) => setSending({ done, total }),
      });
      setStaged((before) => [...before, ...rows]);
    } catch {
      // What went wrong is shown below the button; files that were sent stay.
    } finally {
      setSending(null);
    }
  }

  const ready = staged.filter((row) => row.state === "waiting");
  return (
    <Offcanvas show onHide={close} placement="end" className="import-panel">
      <Offcanvas.Header closeButton>
        <Offcanvas.Title as="h2">Import documents</Offcanvas.Title>
      </Offcanvas.Header>
      <Offcanvas.Body>
        <div
          className={`drop ${over ? "over" : ""}`}
          onDragOver={(event) => {
            event.preventDefault();
            setOver(true);
          }}
          onDragLeave={() => setOver(false)}
          onDrop={(event) => {
            event.preventDefault();
            setOver(false);
            void dropped(event.dataTransfer).then(take);
          }}
        >
          <Choose label="Choose files" take={take} />
          <Choose label="Choose a folder" folder take={take} />
          <div className="small-text soft">
            or drop them here, folders too. Markdown, HTML, text, CSV, JSONL, DOCX, PDF, PNG, JPEG, WebP, SVG,
            and ZIP of these; up to 200 MiB each. Pictures that a page shows become part of it. A file of a
            known name becomes a new version of its document.
          </div>
        </div>
        {sending && (
          <div className="small-text mt-2" role="status">
            Sending {bytes(sending.done)} of {bytes(sending.total)}
            <Progress
              percent={(100 * sending.done) / Math.max(sending.total, 1)}
              what="Files sent"
              style={{ height: 6 }}
            />
          </div>
        )}
        {problem && (
          <div
            className="notice mt-2"
            style={{ "--tone": "var(--lost)" } as React.CSSProperties}
            role="alert"
          >
            {problem.message}
          </div>
        )}
        {staged.length > 0 && (
          <section className="mt-3">
            <div className="d-flex align-items-center gap-2 mb-1">
              <h3 className="m-0">
                {ready.length} of {staged.length} files ready
              </h3>
              <Button
                className="ms-auto"
                size="sm"
                disabled={!ready.length || start.isPending || sending !== null}
                onClick={() =>
                  start.mutate(number!, {
                    onSuccess: () => {
                      setStaged([]);
                      setNumber(null);
                    },
                  })
                }
              >
                Import
              </Button>
            </div>
            <FileRows
              rows={staged}
              each={(row) =>
                row.state === "waiting" && /\.(csv|jsonl)$/i.test(row.name) ? (
                  <FieldsForm number={number!} file={row} />
                ) : null
              }
            />
          </section>
        )}
        {staged.length === 0 && last.data?.job && <Last found={last.data} />}
      </Offcanvas.Body>
    </Offcanvas>
  );
}

function Choose({
  label,
  folder,
  take,
}: {
  label: string;
  folder?: boolean;
  take: (files: Named[]) => Promise<void>;
}) {
  const input = useRef<HTMLInputElement>(null);
  useEffect(() => {
    if (folder) input.current?.setAttribute("webkitdirectory", "");
  }, [folder]);
  return (
    <>
      <Button size="sm" variant="outline-primary" onClick={() => input.current?.click()}>
        {label}
      </Button>
      <input
        ref={input}
        type="file"
        multiple
        hidden
        aria-label={label}
        onChange={(event) => {
          void take(chosen(event.target.files));
          event.target.value = "";
        }}
      />
    </>
  );
}

/** The import that runs or ran last. */
function Last({ found }: { found: Import }) {
  return (
    <section className="mt-3" data-import={found.job!.state}>
      <JobBar job={found.job!} />
      <FileRows rows={found.files} />
    </section>
  );
}

function FileRows({ rows, each }: { rows: ImportedFile[]; each?: (row: ImportedFile) => React.ReactNode }) {
  return (
    <ul className="file-rows">
      {rows.map((row) => (
        <li key={row.id} data-state={row.state}>
          <div className="d-flex gap-2">
            <span className="mono text-truncate" title={row.name}>
              {row.name}
            </span>
            <span className="ms-auto soft num text-nowrap">{bytes(row.bytes)}</span>
            <span className="state-word">{WORDS[row.state]}</span>
          </div>
          {row.reason && <div className={row.state === "refused" ? "lost" : "soft"}>{row.reason}</div>}
          {row.counts.labels_lost! > 0 && (
            <div className="lost">{row.counts.labels_lost} labels lost their place</div>
          )}
          {each?.(row)}
        </li>
      ))}
    </ul>
  );
}
