// What a person does with the pinned question: keep a typed one, label, change or remove one that is kept.
import { useState } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import type { QuestionRow } from "../api/client";
import { useChangeQuestion, useRemoveQuestion, useWriteQuestion } from "../labels/api";
import { useLabelMode } from "../labels/mode";
import { useGo } from "../shell/pin";
import { useMay } from "../shell/workspace";
import { useQuestionSets } from "./sets";

export function KeepQuestion({ text }: { text: string }) {
  const write = useWriteQuestion();
  const mode = useLabelMode();
  const go = useGo();
  if (!useMay("editor")) return null;
  // What is shown is read anew once it is written; going there must not hang on this button still being there.
  const keep = async () => {
    const row = await write.mutateAsync({ text }).catch(() => null);
    if (!row) return;
    go({ pin: { question: row.id, text: null } });
    if (!mode.on) mode.toggle();
  };
  return (
    <>
      {write.error && <span className="lost small-text">{write.error.message}</span>}
      <Button size="sm" disabled={write.isPending} onClick={() => void keep()}>
        Keep and label it
      </Button>
    </>
  );
}

export function QuestionTools({ row }: { row: QuestionRow }) {
  const mode = useLabelMode();
  const [changing, setChanging] = useState(false);
  const mayJudge = useMay("judge");
  const mayEdit = useMay("editor");
  return (
    <span className="d-flex gap-2 text-nowrap">
      {mayJudge && (
        <Button size="sm" variant="outline-primary" aria-pressed={mode.on} onClick={mode.toggle}>
          Label <kbd>g</kbd>
        </Button>
      )}
      {mayEdit && (
        <Button size="sm" variant="outline-primary" onClick={() => setChanging(true)}>
          Change
        </Button>
      )}
      {changing && <ChangeQuestion row={row} close={() => setChanging(false)} />}
    </span>
  );
}

function ChangeQuestion({ row, close }: { row: QuestionRow; close: () => void }) {
  const change = useChangeQuestion();
  const remove = useRemoveQuestion();
  const sets = useQuestionSets();
  const go = useGo();
  const [text, setText] = useState(row.text);
  const [tags, setTags] = useState(row.tags.join(", "));
  const [group, setGroup] = useState(row.group);
  const [only, setOnly] = useState(row.only);
  const [set, setSet] = useState(row.set);
  const [sure, setSure] = useState(false);
  const problem = change.error ?? remove.error;
  return (
    <Modal show onHide={close} aria-labelledby="change-question">
      <Form
        onSubmit={(event) => {
          event.preventDefault();
          const list = tags
            .split(",")
            .map((tag) => tag.trim())
            .filter(Boolean);
          change.mutate(
            { question: row.id, change: { text, tags: list, group, only, set } },
            { onSuccess: close },
          );
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="change-question">
            Question {row.identity}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body className="d-grid gap-2">
          <Form.Group controlId="question-text">
            <Form.Label>Words</Form.Label>
            <Form.Control
              as="textarea"
              rows={2}
              value={text}
              onChange={(event) => setText(event.target.value)}
            />
          </Form.Group>
          <Form.Group controlId="question-tags">
            <Form.Label>Tags, with commas between them</Form.Label>
            <Form.Control value={tags} onChange={(event) => setTags(event.target.value)} />
          </Form.Group>
          <Form.Group controlId="question-group">
            <Form.Label>Group: questions that are the same in other words share one</Form.Label>
            <Form.Control value={group} onChange={(event) => setGroup(event.target.value)} />
          </Form.Group>
          <Form.Group controlId="question-only">
            <Form.Label>Only where: what may be found for it; empty: everything</Form.Label>
            <Form.Control
              value={only}
              placeholder="document is handbook/*, edition from 5"
              onChange={(event) => setOnly(event.target.value)}
            />
          </Form.Group>
          <Form.Group controlId="question-set">
            <Form.Label>Set</Form.Label>
            <Form.Select value={set} onChange={(event) => setSet(Number(event.target.value))}>
              {sets.data?.map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
            </Form.Select>
          </Form.Group>
          {problem && <div className="lost small-text">{problem.message}</div>}
        </Modal.Body>
        <Modal.Footer>
          <Button
            variant="outline-danger"
            className="me-auto"
            disabled={remove.isPending}
            onClick={() =>
              sure
                ? remove.mutate(row, {
                    onSuccess: () => {
                      close();
                      go({ pin: { question: null, text: null } });
                    },
                  })
                : setSure(true)
            }
          >
            {sure ? "Remove it and its labels" : "Remove"}
          </Button>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={change.isPending}>
            Save
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  );
}
