// Questions from a file: what is in it is shown and mended before anything is written.
import { useState } from "react";
import { Button, Form, Modal, Table } from "react-bootstrap";
import type { QuestionSet } from "../questions/sets";
import { counted } from "../text/numbers";
import { useQuestionFile, type ColumnNames, type ImportOptions, type QuestionsSeen } from "./api";

const COLUMNS: [name: keyof ColumnNames, title: string][] = [
  ["question", "Question"],
  ["document", "Document"],
  ["quote", "Quote of the answer"],
  ["start", "Start of the answer"],
  ["end", "End of the answer"],
  ["grade", "Grade, 0 to 3"],
  ["tags", "Tags"],
  ["group", "Group of rewordings"],
  ["id", "Id"],
  ["unanswerable", "Nothing answers it"],
];
const NEW = 0;

export function ImportQuestions({ sets, close }: { sets: QuestionSet[]; close: () => void }) {
  const [file, setFile] = useState<File | null>(null);
  const [qrels, setQrels] = useState<File | null>(null);
  const [options, setOptions] = useState<ImportOptions>({
    columns: null,
    offsets: "given",
    set: sets[0]?.id ?? null,
    new_set: "",
    choices: {},
    skip: false,
    write: false,
  });
  const send = useQuestionFile();
  const [seen, setSeen] = useState<QuestionsSeen | null>(null);
  // Every change of a choice looks at the file anew; what is shown is what would be written.
  const look = (change: Partial<ImportOptions>, files: { file?: File | null; qrels?: File | null } = {}) => {
    const next = { ...options, ...change };
    const given = { file, qrels, ...files };
    setOptions(next);
    if (!given.file && !given.qrels) return setSeen(null);
    send.mutate({ ...given, options: next }, { onSuccess: setSeen, onError: () => setSeen(null) });
  };
  const open = seen ? seen.doubts.filter((doubt) => !doubt.chosen).length : 0;
  const left = seen ? seen.wrong_count + open : 0;
  const done = seen?.written;
  return (
    <Modal
      show
      onHide={close}
      size="xl"
      scrollable
      aria-labelledby="import-questions"
      className="import-questions"
    >
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="import-questions">
          Import questions
        </Modal.Title>
      </Modal.Header>
      <Modal.Body className="d-grid gap-3">
        <div className="files small-text">
          <Form.Group controlId="question-file">
            <Form.Label>Questions: JSONL, CSV, TSV, or TREC topics</Form.Label>
            <Form.Control
              size="sm"
              type="file"
              onChange={(event) => {
                const chosen = (event.target as HTMLInputElement).files?.[0] ?? null;
                setFile(chosen);
                look({ columns: null, choices: {} }, { file: chosen });
              }}
            />
          </Form.Group>
          <Form.Group controlId="qrels-file">
            <Form.Label>TREC judgements (qrels), if there are any</Form.Label>
            <Form.Control
              size="sm"
              type="file"
              onChange={(event) => {
                const chosen = (event.target as HTMLInputElement).files?.[0] ?? null;
                setQrels(chosen);
                look({}, { qrels: chosen });
              }}
            />
          </Form.Group>
          <Form.Group controlId="into-set">
            <Form.Label>Into the set</Form.Label>
            <Form.Select
              size="sm"
              value={options.set ?? NEW}
              onChange={(event) => look({ set: Number(event.target.value) || null })}
            >
              {sets.map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
              <option value={NEW}>a new one</option>
            </Form.Select>
            {options.set === null && (
              <Form.Control
                size="sm"
                className="mt-1"
                placeholder="Its name; that of the file if empty"
                aria-label="Name of the new set"
                value={options.new_set}
                maxLength={120}
                onChange={(event) => setOptions({ ...options, new_set: event.target.value })}
              />
            )}
          </Form.Group>
        </div>
        {send.error && (
          <div className="notice" role="alert" style={{ "--tone": "var(--lost)" } as React.CSSProperties}>
            {send.error.message}
          </div>
        )}
        {done ? (
          <p className="written-note" role="status">
            Imported: {counted(done.questions, "new question")} and {counted(done.labels, "new label")}.
          </p>
        ) : (
          seen && (
            <>
              {seen.names.length > 0 && (
                <Mapping
                  seen={seen}
                  offsets={options.offsets}
                  choose={(columns) => look({ columns, choices: {} })}
                  setOffsets={(offsets) => look({ offsets })}
                />
              )}
              <Summary seen={seen} />
              <Doubts
                seen={seen}
                choose={(key, place) => look({ choices: { ...options.choices, [key]: place } })}
              />
              <Wrong seen={seen} />
            </>
          )
        )}
      </Modal.Body>
      <Modal.Footer>
        {seen && !done && (
          <span className="soft small-text me-auto">
            {left
              ? "Mend the file or the choices above, or leave those out."
              : "All of it is written at once, or nothing."}
          </span>
        )}
        <Button variant="outline-primary" onClick={close}>
          {done ? "Close" : "Cancel"}
        </Button>
        {seen && !done && (
          <Button
            disabled={send.isPending || !(seen.questions + seen.known)}
            onClick={() =>
              send.mutate(
                { file, qrels, options: { ...options, skip: left > 0, write: true } },
                { onSuccess: setSeen },
              )
            }
          >
            {left ? `Import, and leave out ${left}` : "Import"}
          </Button>
        )}
      </Modal.Footer>
    </Modal>
  );
}

function Mapping({
  seen,
  offsets,
  choose,
  setOffsets,
}: {
  seen: QuestionsSeen;
  offsets: ImportOptions["offsets"];
  choose: (columns: ColumnNames) => void;
  setOffsets: (offsets: ImportOptions["offsets"]) => void;
}) {
  return (
    <section>
      <h3>What the columns are</h3>
      <div className="mapping small-text">
        {COLUMNS.map(([name, title]) => (
          <Form.Group key={name} controlId={`column-${name}`}>
            <Form.Label>{title}</Form.Label>
            <Form.Select
              size="sm"
              value={seen.columns[name]}
              onChange={(event) => choose({ ...seen.columns, [name]: event.target.value })}
            >
              <option value="">none</option>
              {seen.names.map((column) => (
                <option key={column}>{column}</option>
              ))}
            </Form.Select>
          </Form.Group>
        ))}
      </div>
      {seen.columns.start && (
        <Form.Check
          type="checkbox"
          id="canonical-offsets"
          className="small-text"
          label="Start and end count in the text as it is shown here, not in the file that was imported"
          checked={offsets === "canonical"}
          onChange={() => setOffsets(offsets === "canonical" ? "given" : "canonical")}
        />
      )}
    </section>
  );
}

function Summary({ seen }: { seen: QuestionsSeen }) {
  const facts = [
    counted(seen.questions, "new question"),
    `${counted(seen.labels, "new label")}`,
    seen.known && `${counted(seen.known, "question")} there already`,
    seen.known_labels && `${counted(seen.known_labels, "label")} there already`,
    seen.unanswerable && `${seen.unanswerable} that nothing answers`,
    seen.waiting && `${seen.waiting} without a label yet`,
  ].filter(Boolean);
  return (
    <section>
      <h3>What would be imported</h3>
      <p className="mb-1">{facts.join(", ")}.</p>
      <Table size="sm" className="mb-0 small-text">
        <tbody>
          {seen.samples.map((sample) => (
            <tr key={sample.line}>
              <td className="num soft text-nowrap">line {sample.line}</td>
              <td className="w-100">{sample.text}</td>
              <td className="text-nowrap">{sample.tags.join(", ")}</td>
              <td className="text-nowrap">
                {sample.unanswerable ? "nothing answers it" : counted(sample.labels, "new label")}
                {sample.known && ", there already"}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}

function Doubts({ seen, choose }: { seen: QuestionsSeen; choose: (key: string, place: string) => void }) {
  if (!seen.doubts.length) return null;
  return (
    <section>
      <h3>{counted(seen.doubt_count, "quote")} in several places: which is meant?</h3>
      {seen.doubts.map((doubt) => (
        <fieldset key={doubt.key} className="doubt small-text" data-line={doubt.line}>
          <legend>
            <span className="soft num">line {doubt.line}</span> {doubt.question}{" "}
            <span className="mono soft">{doubt.document}</span>
          </legend>
          {doubt.places.map((place, index) => (
            <Form.Check
              key={place.start}
              type="radio"
              id={`${doubt.key}-${index}`}
              checked={doubt.chosen === String(index + 1)}
              onChange={() => choose(doubt.key, String(index + 1))}
              label={
                <span className="serif">
                  …{place.before}
                  <mark className="answer">{doubt.quote}</mark>
                  {place.after}…
                </span>
              }
            />
          ))}
          <Form.Check
            inline
            type="radio"
            id={`${doubt.key}-all`}
            checked={doubt.chosen === "all"}
            onChange={() => choose(doubt.key, "all")}
            label="all of them"
          />
          <Form.Check
            inline
            type="radio"
            id={`${doubt.key}-none`}
            checked={doubt.chosen === "none"}
            onChange={() => choose(doubt.key, "none")}
            label="none of them"
          />
        </fieldset>
      ))}
    </section>
  );
}

function Wrong({ seen }: { seen: QuestionsSeen }) {
  if (!seen.wrong_count) return null;
  return (
    <section>
      <h3 className="lost">{counted(seen.wrong_count, "thing")} wrong</h3>
      <Table size="sm" className="mb-0 small-text wrong-lines">
        <tbody>
          {seen.wrong.map((one, place) => (
            <tr key={place}>
              <td className="num text-nowrap">line {one.line}</td>
              <td className="mono text-nowrap">{one.field}</td>
              <td className="w-100">{one.message}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      {seen.wrong_count > seen.wrong.length && (
        <p className="soft small-text">and {seen.wrong_count - seen.wrong.length} more</p>
      )}
    </section>
  );
}
