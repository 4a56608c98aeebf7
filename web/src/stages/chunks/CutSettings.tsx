// The settings of a cut, each of which redraws the open document as it moves.
import { useState } from "react";
import { Form } from "react-bootstrap";
import { CONTEXTS, overlapUnit, RULES, UNITS, withRule, type Chunking } from "./settings";

export function CutSettings({
  chunking,
  set,
  wrong,
}: {
  chunking: Chunking;
  set: (chunking: Chunking) => void;
  wrong?: string;
}) {
  const by = overlapUnit(chunking.rule, chunking.unit) === "sentences";
  const number = (
    key: "size" | "overlap" | "minimum" | "level" | "window" | "sensitivity",
    label: string,
  ) => (
    <NumberSetting
      key={`${key}-${chunking.rule}`}
      label={label}
      value={chunking[key] ?? 0}
      step={key === "sensitivity" ? 0.1 : 1}
      set={(value) => set({ ...chunking, [key]: value })}
    />
  );
  return (
    <div className="cut-settings">
      <label>
        Rule
        <Form.Select
          size="sm"
          value={chunking.rule}
          onChange={(event) => set(withRule(chunking, event.target.value))}
        >
          {Object.entries(RULES).map(([rule, text]) => (
            <option key={rule} value={rule}>
              {text}
            </option>
          ))}
        </Form.Select>
      </label>
      <label className="size">
        Size
        <span className="d-flex gap-1 align-items-center">
          <Form.Range
            aria-label="Size, slider"
            min={16}
            max={chunking.unit === "characters" ? 2400 : 480}
            step={chunking.unit === "characters" ? 20 : 4}
            value={chunking.size}
            onChange={(event) => set(fitted({ ...chunking, size: Number(event.target.value) }))}
          />
          <NumberInput
            label="Size"
            value={chunking.size}
            set={(size) => set({ ...chunking, size })}
            step={1}
          />
        </span>
      </label>
      <label>
        Unit
        <Form.Select
          size="sm"
          value={chunking.unit}
          onChange={(event) => set(inUnit(chunking, event.target.value))}
        >
          {Object.entries(UNITS).map(([unit, text]) => (
            <option key={unit} value={unit}>
              {text}
            </option>
          ))}
        </Form.Select>
      </label>
      {number("overlap", by ? "Overlap, sentences" : "Overlap")}
      {number("minimum", "At least")}
      {chunking.rule === "outline" && number("level", "Heading level")}
      {chunking.rule === "topic-shift" && (
        <>
          <label>
            Compared by
            <Form.Select
              size="sm"
              value={chunking.signal}
              onChange={(event) => set({ ...chunking, signal: event.target.value })}
            >
              <option value="terms">terms</option>
              <option value="vectors">sentence vectors</option>
            </Form.Select>
          </label>
          {number("window", "Sentences a side")}
          {number("sensitivity", "Sensitivity")}
        </>
      )}
      <label>
        Indexed with
        <Form.Select
          size="sm"
          value={chunking.context ?? "none"}
          onChange={(event) => set({ ...chunking, context: event.target.value })}
        >
          {Object.entries(CONTEXTS).map(([context, text]) => (
            <option key={context} value={context}>
              {text}
            </option>
          ))}
        </Form.Select>
      </label>
      <label>
        Hosts of
        <span className="d-flex gap-1 align-items-center">
          <Form.Check
            aria-label="Nested in host chunks"
            checked={Boolean(chunking.host)}
            onChange={(event) =>
              set({ ...chunking, host: event.target.checked ? { size: 3 * chunking.size } : null })
            }
          />
          {chunking.host ? (
            <NumberInput
              label="Size of hosts"
              value={chunking.host.size}
              step={1}
              set={(size) => set({ ...chunking, host: { size } })}
            />
          ) : (
            <span className="soft">none</span>
          )}
        </span>
      </label>
      {wrong && (
        <span className="wrong" role="alert">
          {wrong}
        </span>
      )}
    </div>
  );
}

/** A smaller size takes overlap, minimum and hosts along. */
function fitted(chunking: Chunking): Chunking {
  const by = overlapUnit(chunking.rule, chunking.unit) === "sentences";
  return {
    ...chunking,
    overlap: by ? chunking.overlap : Math.min(chunking.overlap, Math.floor(chunking.size / 2)),
    minimum: Math.min(chunking.minimum ?? 0, chunking.size),
    host: chunking.host && { size: Math.max(chunking.host.size, chunking.size) },
  };
}

const LETTERS: Record<string, number> = { characters: 1, tokens: 4.5, words: 6 };

/** About the same lengths in another unit. */
function inUnit(chunking: Chunking, unit: string): Chunking {
  const times = LETTERS[chunking.unit]! / LETTERS[unit]!;
  const turned = (value: number) => Math.max(Math.round((value * times) / 4) * 4, 0);
  const by = overlapUnit(chunking.rule, chunking.unit) === "sentences";
  return {
    ...chunking,
    unit,
    size: Math.max(turned(chunking.size), 16),
    overlap: by ? chunking.overlap : turned(chunking.overlap),
    minimum: turned(chunking.minimum ?? 0),
    host: chunking.host && { size: turned(chunking.host.size) },
  };
}

function NumberSetting(props: { label: string; value: number; step: number; set: (value: number) => void }) {
  return (
    <label>
      {props.label}
      <NumberInput {...props} />
    </label>
  );
}

function NumberInput({
  label,
  value,
  step,
  set,
}: {
  label: string;
  value: number;
  step: number;
  set: (value: number) => void;
}) {
  const [typed, setTyped] = useState<string | null>(null);
  return (
    <Form.Control
      size="sm"
      type="number"
      aria-label={label}
      step={step}
      value={typed ?? String(value)}
      onChange={(event) => {
        setTyped(event.target.value);
        if (event.target.value !== "" && Number.isFinite(Number(event.target.value)))
          set(Number(event.target.value));
      }}
      onBlur={() => setTyped(null)}
    />
  );
}
