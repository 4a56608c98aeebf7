// Fields for settings, whatever kind declares them.
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { useCatalogue, useFamily, type Setting } from "../api/catalogue";
import { useEncoders } from "./api";
import { applies, begun, filled, kindOf, settingsOf, titleOf, turned, type Values } from "./kinds";
import { field, type RecipeBody } from "./paths";

export interface Editing {
  body: RecipeBody;
  set: (path: string, value: unknown) => void;
  wrong: Record<string, string>;
}

/** A kind of a family and the settings that it declares. */
export function KindFields({
  family: name,
  path,
  label,
  leave = [],
  ...editing
}: Editing & { family: string; path: string; label: string; leave?: string[] }) {
  const catalogue = useCatalogue();
  const family = useFamily(name);
  const values = (field(editing.body, path) ?? {}) as Values;
  const chosen = values[family.key];
  const kind = kindOf(family, chosen);
  const key = `${path}.${family.key}`;
  const settings = settingsOf(family, kind).filter((setting) => !leave.includes(setting.name));
  return (
    <>
      <Choice
        id={key}
        label={label}
        value={String(chosen ?? "")}
        options={family.kinds.map((one) => [one.name, titleOf(family, one.name), one.origin])}
        choose={(to) => editing.set(path, turned(catalogue, name, values, to))}
        wrong={editing.wrong[key]}
      />
      {typeof kind?.facts.help === "string" && (
        <p className="small-text soft mb-2">
          {typeof kind.facts.measure === "string" && <>Score: {kind.facts.measure}. </>}
          {kind.facts.help}
        </p>
      )}
      <SettingFields key={String(chosen)} settings={settings} path={path} {...editing} />
    </>
  );
}

export function SettingFields({
  settings,
  path,
  ...editing
}: Editing & { settings: Setting[]; path: string }) {
  const values = (field(editing.body, path) ?? {}) as Values;
  return (
    <>
      {settings
        .filter((setting) => applies(setting, values))
        .map((setting) => (
          <SettingField key={setting.name} setting={setting} path={`${path}.${setting.name}`} {...editing} />
        ))}
    </>
  );
}

function SettingField({ setting, path, ...editing }: Editing & { setting: Setting; path: string }) {
  const value = field(editing.body, path);
  const wrong = editing.wrong[path];
  switch (setting.type) {
    case "whole":
    case "number":
      return <NumberField setting={setting} path={path} {...editing} />;
    case "choice":
      return (
        <Choice
          id={path}
          label={setting.title}
          value={String(value ?? setting.default)}
          options={setting.choices.map((one) => [one.value, one.title])}
          choose={(to) => editing.set(path, to)}
          wrong={wrong}
        />
      );
    case "switch":
      return (
        <Form.Check
          id={path}
          label={setting.title}
          checked={value === true}
          onChange={(event) => editing.set(path, event.target.checked)}
        />
      );
    case "text":
    case "lines":
      return <TextField setting={setting} path={path} {...editing} />;
    case "encoder":
      return <EncoderField setting={setting} path={path} {...editing} />;
    case "kind":
      return <KindFields family={setting.kinds} path={path} label={setting.title} {...editing} />;
    case "kinds":
      return <KindsField setting={setting} path={path} {...editing} />;
    case "group":
      return <GroupField setting={setting} path={path} {...editing} />;
    default:
      // What has no field of its own stands in the JSON.
      return null;
  }
}

/** A list of kinds, each with its settings; one more is added from a menu. */
function KindsField({ setting, path, ...editing }: Editing & { setting: Setting; path: string }) {
  const catalogue = useCatalogue();
  const family = useFamily(setting.kinds);
  const list = (field(editing.body, path) ?? []) as Values[];
  return (
    <div className="kinds">
      <label htmlFor={path}>{setting.title}</label>
      {list.map((one, at) => (
        <div key={`${at}${String(one[family.key])}`} className="one-kind">
          <KindFields family={setting.kinds} path={`${path}[${at}]`} label={`${at + 1}`} {...editing} />
          <Button
            size="sm"
            variant="link"
            className="p-0"
            onClick={() =>
              editing.set(
                path,
                list.filter((_, place) => place !== at),
              )
            }
          >
            take out
          </Button>
        </div>
      ))}
      <Form.Select
        id={path}
        size="sm"
        value=""
        onChange={(event) =>
          editing.set(path, [...list, filled(catalogue, setting.kinds, { [family.key]: event.target.value })])
        }
      >
        <option value="">{list.length ? "add another" : "none; add one"}</option>
        {family.kinds.map((kind) => (
          <option key={kind.name} value={kind.name}>
            {kind.title}
          </option>
        ))}
      </Form.Select>
      {editing.wrong[path] && <div className="wrong">{editing.wrong[path]}</div>}
    </div>
  );
}

/** Settings that stand together; where they may be left out, a tick brings them. */
function GroupField({ setting, path, ...editing }: Editing & { setting: Setting; path: string }) {
  const value = field(editing.body, path) as Values | null | undefined;
  const inside = setting.inside.filter(
    (one) => one.type !== "group" || (!one.optional && value?.[one.name] !== undefined),
  );
  const fields = value ? <SettingFields settings={inside} path={path} {...editing} /> : null;
  if (!setting.optional) return fields;
  return (
    <>
      <Form.Check
        id={path}
        label={setting.title}
        checked={Boolean(value)}
        onChange={(event) =>
          editing.set(
            path,
            event.target.checked
              ? begun(setting, (field(editing.body, path.slice(0, path.lastIndexOf("."))) ?? {}) as Values)
              : null,
          )
        }
      />
      {fields}
      {editing.wrong[path] && <div className="wrong">{editing.wrong[path]}</div>}
    </>
  );
}

function EncoderField({ setting, path, ...editing }: Editing & { setting: Setting; path: string }) {
  const encoders = useEncoders();
  const chosen = String(field(editing.body, path) ?? setting.default);
  const known = encoders.data ?? [];
  const options = known.some(({ name }) => name === chosen)
    ? known.map(({ name, title }) => [name, title] as [string, string])
    : [
        [chosen, chosen] as [string, string],
        ...known.map(({ name, title }) => [name, title] as [string, string]),
      ];
  const warning = known.find(({ name }) => name === chosen)?.warning;
  return (
    <>
      <Choice
        id={path}
        label={setting.title}
        value={chosen}
        options={options}
        choose={(to) => editing.set(path, to)}
        wrong={editing.wrong[path]}
      />
      {warning && (
        <div className="wrong" role="alert">
          {warning}
        </div>
      )}
    </>
  );
}

export function Choice({
  id,
  label,
  value,
  options,
  choose,
  wrong,
}: {
  id: string;
  label: string;
  value: string;
  options: [value: string, title: string, origin?: string][];
  choose: (value: string) => void;
  wrong?: string;
}) {
  return (
    <div>
      <label htmlFor={id}>{label}</label>
      <Form.Select id={id} size="sm" value={value} onChange={(event) => choose(event.target.value)}>
        {options.map(([name, title, origin]) => (
          <option key={name} value={name}>
            {title}
            {origin ? ` (${origin})` : ""}
          </option>
        ))}
      </Form.Select>
      {wrong && <div className="wrong">{wrong}</div>}
    </div>
  );
}

function TextField({ setting, path, body, set, wrong }: Editing & { setting: Setting; path: string }) {
  return (
    <div>
      <label htmlFor={path}>{setting.title}</label>
      <Form.Control
        id={path}
        size="sm"
        {...(setting.type === "lines" ? { as: "textarea" as const, rows: 3, className: "mono" } : {})}
        value={String(field(body, path) ?? "")}
        title={setting.help}
        isInvalid={Boolean(wrong[path])}
        onChange={(event) => set(path, event.target.value || (setting.optional ? null : ""))}
      />
      {wrong[path] && <div className="wrong">{wrong[path]}</div>}
    </div>
  );
}

export function NumberField({
  setting,
  path,
  body,
  set,
  wrong,
}: Editing & { setting: Setting; path: string }) {
  const value = field(body, path);
  const [text, setText] = useState(value === null || value === undefined ? "" : String(value));
  const range = setting.low !== null && setting.high !== null ? `${setting.low} to ${setting.high}` : "";
  return (
    <div>
      <label htmlFor={path}>{setting.title}</label>
      <Form.Control
        id={path}
        size="sm"
        inputMode="decimal"
        value={text}
        title={[range, setting.help].filter(Boolean).join("; ")}
        placeholder={value === undefined && setting.default !== null ? String(setting.default) : undefined}
        isInvalid={Boolean(wrong[path])}
        onChange={(event) => {
          const typed = event.target.value.trim();
          setText(event.target.value);
          // What is no number is sent as it stands: the server says what would be right.
          set(path, typed === "" ? null : Number.isNaN(Number(typed)) ? typed : Number(typed));
        }}
      />
      {wrong[path] && <div className="wrong">{wrong[path]}</div>}
    </div>
  );
}
