// The question sets: which are measured, what they hold, in and out as files.
import { useState } from "react";
import { Button, Dropdown, Form, Table } from "react-bootstrap";
import { useLine } from "../api/queries";
import { useChangeSet, useMakeSet, useQuestionSets, type QuestionSet } from "../questions/sets";
import { Shown } from "../shell/states";
import { useMay, useWorkspace } from "../shell/workspace";
import { useRemoveSet } from "./api";
import { ImportQuestions } from "./ImportQuestions";

const FORMS = [
  ["jsonl", "JSONL, with all that a question has"],
  ["csv", "CSV, a row a label, with its quote"],
  ["tsv", "TSV, the same with tabs"],
  ["topics", "TREC topics"],
  ["qrels", "TREC judgements on documents"],
] as const;

export function Sets() {
  const sets = useQuestionSets();
  const mayEdit = useMay("editor");
  const [importing, setImporting] = useState(false);
  return (
    <>
      <div className="d-flex align-items-baseline gap-3 mb-2">
        <h2>Question sets</h2>
        <span className="soft small-text">
          Trials ask the labelled questions of the sets that are measured. A change of what is measured makes
          earlier figures earlier ones.
        </span>
        {mayEdit && (
          <Button size="sm" className="ms-auto text-nowrap" onClick={() => setImporting(true)}>
            Import questions
          </Button>
        )}
      </div>
      <Shown query={sets} what="Reading the sets">
        {(rows) => (
          <Table size="sm" className="align-middle sets">
            <thead>
              <tr>
                <th>Measured</th>
                <th>Set</th>
                <th className="text-end">Questions</th>
                <th className="text-end">Labelled</th>
                <th>Note</th>
                <th>
                  <span className="visually-hidden">actions</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <Row key={row.id} row={row} mayEdit={mayEdit} />
              ))}
            </tbody>
          </Table>
        )}
      </Shown>
      {mayEdit && <MakeSet />}
      {importing && sets.data && <ImportQuestions sets={sets.data} close={() => setImporting(false)} />}
    </>
  );
}

function Row({ row, mayEdit }: { row: QuestionSet; mayEdit: boolean }) {
  const change = useChangeSet();
  const remove = useRemoveSet();
  const workspace = useWorkspace();
  const line = useLine();
  const [name, setName] = useState(row.name);
  const [note, setNote] = useState(row.note);
  const [sure, setSure] = useState(false);
  const problem = change.error ?? remove.error;
  const out = (form: string, more = "") =>
    `/api/workspaces/${workspace}/question-sets/${row.id}/export?form=${form}${more}`;
  const save = (field: "name" | "note", value: string) =>
    value.trim() !== row[field] && change.mutate({ set: row.id, change: { [field]: value.trim() } });
  return (
    <tr data-set={row.name}>
      <td>
        <Form.Check
          type="switch"
          aria-label={`${row.name} is measured`}
          checked={row.measured}
          disabled={!mayEdit || change.isPending}
          onChange={() => change.mutate({ set: row.id, change: { measured: !row.measured } })}
        />
      </td>
      <td>
        <Form.Control
          size="sm"
          className="plain"
          aria-label={`Name of ${row.name}`}
          value={name}
          maxLength={120}
          disabled={!mayEdit}
          onChange={(event) => setName(event.target.value)}
          onBlur={() => save("name", name)}
        />
        {problem && <div className="lost small-text">{problem.message}</div>}
      </td>
      <td className="text-end num">{row.questions.toLocaleString()}</td>
      <td className="text-end num">
        {row.labelled.toLocaleString()}
        {row.questions > row.labelled && (
          <span className="lost small-text"> {(row.questions - row.labelled).toLocaleString()} wait</span>
        )}
      </td>
      <td className="w-50">
        <Form.Control
          size="sm"
          className="plain"
          aria-label={`Note on ${row.name}`}
          placeholder={mayEdit ? "What it is for" : ""}
          value={note}
          maxLength={300}
          disabled={!mayEdit}
          onChange={(event) => setNote(event.target.value)}
          onBlur={() => save("note", note)}
        />
      </td>
      <td className="text-nowrap text-end">
        <Dropdown className="d-inline-block" align="end">
          <Dropdown.Toggle size="sm" variant="outline-primary">
            Export
          </Dropdown.Toggle>
          <Dropdown.Menu>
            {FORMS.map(([form, title]) => (
              <Dropdown.Item key={form} href={out(form)}>
                {title}
              </Dropdown.Item>
            ))}
            {line.data?.built && (
              <Dropdown.Item href={out("qrels", `&recipe=${line.data.recipe.id}`)}>
                TREC judgements on the chunks of {line.data.recipe.name} v{line.data.recipe.version}
              </Dropdown.Item>
            )}
          </Dropdown.Menu>
        </Dropdown>{" "}
        {mayEdit && (
          <Button
            size="sm"
            variant="outline-danger"
            onBlur={() => setSure(false)}
            onClick={() => (sure ? remove.mutate(row.id) : setSure(true))}
          >
            {sure ? `Remove ${row.questions} questions` : "Remove"}
          </Button>
        )}
      </td>
    </tr>
  );
}

function MakeSet() {
  const [name, setName] = useState("");
  const make = useMakeSet();
  return (
    <Form
      className="d-flex gap-2 align-items-center"
      onSubmit={(event) => {
        event.preventDefault();
        make.mutate({ name, note: "" }, { onSuccess: () => setName("") });
      }}
    >
      <Form.Control
        size="sm"
        style={{ width: "18rem" }}
        value={name}
        maxLength={120}
        placeholder="Name of a new set"
        aria-label="Name of a new set"
        onChange={(event) => setName(event.target.value)}
      />
      <Button size="sm" variant="outline-primary" type="submit" disabled={!name.trim() || make.isPending}>
        Make a set
      </Button>
      {make.error && <span className="lost small-text">{make.error.message}</span>}
    </Form>
  );
}
