// The settings of a cut, each of which redraws the open document as it moves.
import { useState } from "react";
import { Form } from "react-bootstrap";
import { useFamily, type Setting } from "../../api/catalogue";
import { overlapUnit, ownSettings, withRule, type Chunking } from "./settings";

export function CutSettings({
  chunking,
  set,
  wrong,
}: {
  chunking: Chunking;
  set: (chunking: Chunking) => void;
  wrong?: string;
}) {
  const rules = useFamily("chunking");
  const by = overlapUnit(rules, chunking.rule, chunking.unit) === "sentences";
  const named = (name: string) => rules.common.find((setting) => setting.name === name);
  const number = (key: string, label: string, step = 1) => (
    <NumberSetting
      key={`${key}-${chunking.rule}`}
      label={label}
      value={Number(chunking[key] ?? 0)}
      step={step}
      set={(value) => set({ ...chunking, [key]: value })}
    />
  );
  const choice = (setting: Setting | undefined, choose: (value: string) => Chunking) =>
    setting && (
      <label key={setting.name}>
        {setting.title}
        <Form.Select
          size="sm"
          value={String(chunking[setting.name] ?? setting.default)}
          onChange={(event) => set(choose(event.target.value))}
        >
          {setting.choices.map(({ value, title }) => (
            <option key={value} value={value}>
              {title}
            </option>
          ))}
        </Form.Select>
      </label>
    );
  const own = (setting: Setting) =>
    setting.type === "choice"
      ? choice(setting, (value) => ({ ...chunking, [setting.name]: value }))
      : number(setting.name, setting.title.replace(/,.*/, ""), setting.type === "number" ? 0.1 : 1);
  return (
    <div className="cut-settings">
      <label>
        Rule
        <Form.Select
          size="sm"
          value={chunking.rule}
          onChange={(event) => set(withRule(rules, chunking, event.target.value))}
        >
          {rules.kinds.map(({ name, title }) => (
            <option key={name} value={name}>
              {title}
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
            onChange={(event) => set(fitted({ ...chunking, size: Number(event.target.value) }, by))}
          />
          <NumberInput
            label="Size"
            value={chunking.size}
            set={(size) => set({ ...chunking, size })}
            step={1}
          />
        </span>
      </label>
      {choice(named("unit"), (unit) => inUnit(chunking, unit, by))}
      {number("overlap", by ? "Overlap, sentences" : "Overlap")}
      {number("minimum", "At least")}
      {ownSettings(rules, chunking.rule).map(own)}
      {choice(named("context"), (context) => ({ ...chunking, context }))}
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
function fitted(chunking: Chunking, bySentence: boolean): Chunking {
  return {
    ...chunking,
    overlap: bySentence ? chunking.overlap : Math.min(chunking.overlap, Math.floor(chunking.size / 2)),
    minimum: Math.min(chunking.minimum ?? 0, chunking.size),
    host: chunking.host && { size: Math.max(chunking.host.size, chunking.size) },
  };
}

const LETTERS: Record<string, number> = { characters: 1, tokens: 4.5, words: 6 };

/** About the same lengths in another unit. */
function inUnit(chunking: Chunking, unit: string, bySentence: boolean): Chunking {
  const times = LETTERS[chunking.unit]! / LETTERS[unit]!;
  const turned = (value: number) => Math.max(Math.round((value * times) / 4) * 4, 0);
  return {
    ...chunking,
    unit,
    size: Math.max(turned(chunking.size), 16),
    overlap: bySentence ? chunking.overlap : turned(chunking.overlap),
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
