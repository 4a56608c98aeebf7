// Keys and words on one card.
import { Modal, Table } from "react-bootstrap";

const KEYS = [
  ["1 – 7", "open a stage"],
  ["j, k", "next and previous question"],
  ["n", "next question that is not right, or has no label"],
  ["/", "type a question"],
  ["g", "label mode for the pinned question"],
  ["0 – 3", "grade the selected words, the hit at the pointer, or a passage; 0 is no answer"],
  ["u", "labels, suggestions, judging: take the last step back"],
  ["a, w, x", "a suggested question: accept, reword, refuse"],
  ["d", "a passage that is judged: in its document, or alone"],
  ["y, x", "a draft: keep it, drop it"],
  ["Esc", "take the pin away: see the stage as a whole"],
  ["?", "this card"],
];
const WORDS = [
  ["level", "answerable questions whose answer is still in play after a stage"],
  ["in play", "a chunk that is relevant to an answer goes on to the next stage"],
  ["relevant", "a chunk that shares at least half of the shorter of chunk and answer, in characters"],
  ["intact", "one chunk holds all of an answer"],
  ["answer", "a label, or several that overlap and count as one"],
  ["set", "questions that belong together; trials ask those of measured sets"],
  ["pool", "what several recipes found first, judged without knowing which did"],
  ["pin", "the question that every stage view looks at"],
  ["shortlist", "the fused chunks that the reranker scores"],
  ["floor", "the score under which a chunk is dropped"],
];

export function Help({ shown, close }: { shown: boolean; close: () => void }) {
  return (
    <Modal show={shown} onHide={close} size="lg" aria-labelledby="help-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="help-title">
          Keys and words
        </Modal.Title>
      </Modal.Header>
      <Modal.Body className="d-grid gap-3 align-items-start" style={{ gridTemplateColumns: "1fr 1.35fr" }}>
        <List rows={KEYS} keys />
        <List rows={WORDS} />
      </Modal.Body>
    </Modal>
  );
}

function List({ rows, keys = false }: { rows: string[][]; keys?: boolean }) {
  return (
    <Table size="sm" className="mb-0">
      <tbody>
        {rows.map(([name, text]) => (
          <tr key={name}>
            <th style={{ whiteSpace: "nowrap" }}>{keys ? <kbd>{name}</kbd> : name}</th>
            <td>{text}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}
