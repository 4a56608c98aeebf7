// From nothing to a first honest figure: documents, questions with their answers, a measurement. Each step is done here.
import { useState, type ReactNode } from "react";
import { Button, Form } from "react-bootstrap";
import { useNavigate } from "react-router";
import type { Line, QuestionRow } from "../api/client";
import { running, useDocuments, useLine, useQuestions, useStartTrial } from "../api/queries";
import { useWriteQuestion } from "../labels/api";
import { useLabelMode } from "../labels/mode";
import { ending } from "../questions/order";
import { JobBar } from "../shell/JobBar";
import { Shown } from "../shell/states";
import { useMay } from "../shell/workspace";
import { ImportPanel } from "../stages/documents/ImportPanel";
import { useImport } from "../stages/documents/api";
import { counted, percent } from "../text/numbers";

/** So many labelled questions make the first figure worth looking at. */
const ENOUGH = 6;

export function Begin() {
  const documents = useDocuments();
  const questions = useQuestions();
  const line = useLine();
  return (
    <main className="begin" aria-label="Beginning">
      <Shown query={documents} what="Reading the documents">
        {(rows) => <Documents count={rows.length} />}
      </Shown>
      <Shown query={questions} what="Reading the questions">
        {(rows) => <Questions rows={rows} documents={documents.data?.length ?? 0} />}
      </Shown>
      <Shown query={line} what="Reading the line">
        {(data) => <Measure line={data} labelled={(questions.data ?? []).filter(isLabelled).length} />}
      </Shown>
    </main>
  );
}

const isLabelled = (row: QuestionRow) => row.answerable || row.unanswerable;

function Step({
  number,
  title,
  done,
  now,
  children,
}: {
  number: number;
  title: string;
  done: boolean;
  now: string;
  children: ReactNode;
}) {
  return (
    <section className={done ? "step done panel" : "step panel"}>
      <div className="number" aria-hidden="true">
        {done ? "✓" : number}
      </div>
      <h2 className="serif">{title}</h2>
      <div className="small-text soft">{now}</div>
      <div className="inside">{children}</div>
    </section>
  );
}

function Documents({ count }: { count: number }) {
  const [importing, setImporting] = useState(false);
  const job = useImport().data?.job;
  const navigate = useNavigate();
  const mayEdit = useMay("editor");
  return (
    <Step
      number={1}
      title="Documents"
      done={count > 0}
      now={count ? `${counted(count, "document")} ${count === 1 ? "is" : "are"} in` : "Nothing is here yet"}
    >
      <p className="small-text">
        Bring in what the assistant answers from: a folder, single files or a ZIP of Markdown, HTML, text,
        CSV, JSONL, DOCX and PDF. Each is read, shown as it was read, and cut by the recipe.
      </p>
      <div className="d-flex gap-2">
        {mayEdit && (
          <Button
            size="sm"
            variant={count ? "outline-primary" : "primary"}
            onClick={() => setImporting(true)}
          >
            {count ? "Bring in more" : "Bring in documents"}
          </Button>
        )}
        {count > 0 && (
          <Button size="sm" variant="outline-primary" onClick={() => navigate("/line/documents")}>
            Look at how they were read
          </Button>
        )}
      </div>
      {job && running(job) && <JobBar job={job} />}
      {importing && <ImportPanel close={() => setImporting(false)} />}
    </Step>
  );
}

function Questions({ rows, documents }: { rows: QuestionRow[]; documents: number }) {
  const [text, setText] = useState("");
  const write = useWriteQuestion();
  const mode = useLabelMode();
  const navigate = useNavigate();
  const mayEdit = useMay("editor");
  const labelled = rows.filter(isLabelled).length;
  const open = (row: QuestionRow) => {
    if (!mode.on) mode.toggle();
    navigate(`/line/documents?q=${row.id}`);
  };
  const shown = [...rows].sort((a, b) => Number(isLabelled(a)) - Number(isLabelled(b)) || b.id - a.id);
  return (
    <Step
      number={2}
      title="Questions and their answers"
      done={labelled >= ENOUGH}
      now={`${counted(rows.length, "question")}, ${labelled} of them labelled; ${ENOUGH} make a start`}
    >
      <p className="small-text">
        Write what people ask, in their words. Then show where the answer stands: select the words in a
        document. Say so where no document answers it: such questions show whether the assistant is left
        empty-handed when it should be.
      </p>
      {mayEdit && (
        <Form
          className="d-flex gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            if (!text.trim()) return;
            // The next one can be typed at once; one that is refused comes back.
            setText("");
            write.mutate({ text }, { onError: () => setText((now) => now || text) });
          }}
        >
          <Form.Control
            size="sm"
            value={text}
            maxLength={2000}
            placeholder="A question, as somebody would ask it"
            aria-label="A new question"
            onChange={(event) => setText(event.target.value)}
          />
          <Button size="sm" type="submit" className="text-nowrap" disabled={!text.trim()}>
            Write down
          </Button>
        </Form>
      )}
      {write.error && <div className="lost small-text">{write.error.message}</div>}
      <ul className="written">
        {shown.slice(0, 60).map((row) => (
          <li key={row.id}>
            <span>{row.text}</span>
            <span className={isLabelled(row) ? "soft small-text" : "lost small-text"}>
              {row.unanswerable ? "nothing answers it" : row.answerable ? ending(row) : "no label yet"}
            </span>
            <Button size="sm" variant="outline-primary" disabled={!documents} onClick={() => open(row)}>
              {isLabelled(row) ? "Look" : "Find its answer"}
            </Button>
          </li>
        ))}
        {shown.length > 60 && (
          <li className="soft small-text">and {shown.length - 60} more, in the drawer of the line</li>
        )}
      </ul>
    </Step>
  );
}

function Measure({ line, labelled }: { line: Line; labelled: number }) {
  const start = useStartTrial();
  const navigate = useNavigate();
  const mayEdit = useMay("editor");
  const measured = line.trial !== null && line.delivered !== null;
  const lost = line.stages
    .filter((stage) => (stage.lost ?? 0) > 0 && stage.kind !== "sparse" && stage.kind !== "dense")
    .sort((a, b) => (b.lost ?? 0) - (a.lost ?? 0));
  return (
    <Step
      number={3}
      title="Measure"
      done={measured}
      now={
        measured
          ? `${line.recipe.name} v${line.recipe.version} on ${counted(line.answerable, "question")} with an answer`
          : line.earlier
            ? "Documents or labels have changed since it was last measured"
            : "Not measured yet"
      }
    >
      <p className="small-text">
        The recipe in force is built over the documents and asked every labelled question. You see how many
        answers are delivered, and for each of the others the stage that lost it.
      </p>
      {measured && line.answerable > 0 && (
        <div className="first-figure">
          <span className="figure num">{percent(line.delivered! / line.answerable)}</span>
          <span className="small-text num">
            {line.delivered} of {line.answerable} delivered, 95 % interval {percent(line.low ?? 0)} to{" "}
            {percent(line.high ?? 1)}
          </span>
          <span className="small-text">
            {lost.length
              ? `Most is lost at ${lost[0]!.stage}: ${lost[0]!.lost}.`
              : "No stage loses an answer."}{" "}
            {line.answerable < 30 &&
              "With so few questions the interval is wide: write more before you choose."}
          </span>
        </div>
      )}
      <div className="d-flex gap-2">
        {mayEdit && !measured && (
          <Button
            size="sm"
            disabled={!labelled || running(line.job) || start.isPending}
            onClick={() => start.mutate(line.recipe.id)}
          >
            Build and measure
          </Button>
        )}
        {measured && (
          <Button size="sm" onClick={() => navigate("/line/fused")}>
            See which stage loses what
          </Button>
        )}
      </div>
      {!measured && running(line.job) && (
        <div className="soft small-text" role="status">
          It is being built and measured just now; the bar above shows how far it is.
        </div>
      )}
      {start.error && <div className="lost small-text">{start.error.message}</div>}
    </Step>
  );
}
