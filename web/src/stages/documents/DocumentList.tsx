// The documents of the corpus: found by words and by what their metadata say.
import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, useState } from "react";
import { Button, Form } from "react-bootstrap";
import type { DocumentRow } from "../../api/client";
import { useRemoveDocuments } from "./api";
import { facets, filtered, type Condition, type Test } from "./filter";

const ROW = 46;

export function DocumentList({
  rows,
  chosen,
  choose,
}: {
  rows: DocumentRow[];
  chosen: number | null;
  choose: (number: number) => void;
}) {
  const [words, setWords] = useState("");
  const [condition, setCondition] = useState<Condition | null>(null);
  const [ticked, setTicked] = useState<Set<number>>(new Set());
  const shown = filtered(rows, words, condition);
  const frame = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: shown.length,
    getScrollElement: () => frame.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const tick = (number: number) =>
    setTicked((before) => {
      const after = new Set(before);
      if (!after.delete(number)) after.add(number);
      return after;
    });
  return (
    <div className="document-list">
      <Form.Control
        size="sm"
        type="search"
        placeholder="Title or file name"
        aria-label="Title or file name"
        value={words}
        onChange={(event) => setWords(event.target.value)}
      />
      <ConditionForm rows={rows} condition={condition} set={setCondition} />
      <div className="small-text soft d-flex align-items-center gap-2">
        <span className="num">
          {shown.length === rows.length
            ? `${rows.length} documents`
            : `${shown.length} of ${rows.length} documents`}
        </span>
        {ticked.size > 0 && <Remove numbers={[...ticked]} done={() => setTicked(new Set())} />}
      </div>
      <div className="rows" ref={frame}>
        <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
          {virtual.getVirtualItems().map((item) => {
            const row = shown[item.index]!;
            return (
              <div
                key={row.id}
                className={`document-row ${row.id === chosen ? "chosen" : ""}`}
                style={{ transform: `translateY(${item.start}px)`, height: ROW }}
              >
                <Form.Check
                  aria-label={`Select ${row.title}`}
                  checked={ticked.has(row.id)}
                  onChange={() => tick(row.id)}
                />
                <button type="button" onClick={() => choose(row.id)} aria-pressed={row.id === chosen}>
                  <span className="text-truncate">{row.title}</span>
                  <span className="soft mono text-truncate">{row.name}</span>
                </button>
                <span className="soft num small-text text-end">
                  {row.words.toLocaleString()}
                  <br />
                  {row.version > 1 ? `v${row.version}` : ""}
                </span>
              </div>
            );
          })}
        </div>
        {shown.length === 0 && <p className="small-text soft p-2">No document is like that.</p>}
      </div>
    </div>
  );
}

function ConditionForm({
  rows,
  condition,
  set,
}: {
  rows: DocumentRow[];
  condition: Condition | null;
  set: (condition: Condition | null) => void;
}) {
  const all = facets(rows);
  const facet = all.find((one) => one.key === condition?.key);
  if (!all.length) return null;
  const ranged = facet?.kind === "date" || facet?.kind === "number";
  return (
    <div className="d-flex gap-1">
      <Form.Select
        size="sm"
        aria-label="Metadata"
        value={condition?.key ?? ""}
        onChange={(event) =>
          set(event.target.value ? { key: event.target.value, test: "is", value: "" } : null)
        }
      >
        <option value="">any metadata</option>
        {all.map(({ key }) => (
          <option key={key} value={key}>
            {key}
          </option>
        ))}
      </Form.Select>
      {condition && ranged && (
        <Form.Select
          size="sm"
          aria-label="Comparison"
          value={condition.test}
          onChange={(event) => set({ ...condition, test: event.target.value as Test })}
        >
          <option value="is">is</option>
          <option value="from">from</option>
          <option value="to">up to</option>
        </Form.Select>
      )}
      {condition && facet && (
        <Form.Select
          size="sm"
          aria-label="Value"
          value={condition.value}
          onChange={(event) => set({ ...condition, value: event.target.value })}
        >
          <option value="">is there</option>
          {facet.values.slice(0, 300).map((value) => (
            <option key={value} value={value}>
              {value.length > 40 ? `${value.slice(0, 40)}…` : value}
            </option>
          ))}
        </Form.Select>
      )}
    </div>
  );
}

function Remove({ numbers, done }: { numbers: number[]; done: () => void }) {
  const remove = useRemoveDocuments();
  const [sure, setSure] = useState(false);
  const many = `${numbers.length} document${numbers.length > 1 ? "s" : ""}`;
  if (!sure)
    return (
      <Button size="sm" variant="outline-danger" onClick={() => setSure(true)}>
        Remove {many}
      </Button>
    );
  return (
    <span className="d-flex gap-1 align-items-center">
      Labels in {numbers.length > 1 ? "them" : "it"} will wait.
      <Button
        size="sm"
        variant="danger"
        disabled={remove.isPending}
        onClick={() => remove.mutate(numbers, { onSuccess: done })}
      >
        Remove
      </Button>
      <Button size="sm" variant="outline-secondary" onClick={() => setSure(false)}>
        Keep
      </Button>
    </span>
  );
}
