// Keys of assistants: what each may do and how often, what it asked, and a new one whose secret is told once.
import { useState, type FormEvent } from "react";
import { Button } from "react-bootstrap";
import { useMay } from "../shell/workspace";
import { Examples } from "./Examples";
import { useMakeKey, useTakeKeyBack, type Key, type MadeKey, type Published } from "./api";

const SCOPES: [Key["scopes"][number], string][] = [
  ["search", "passages"],
  ["answer", "answers"],
  ["read", "documents"],
  ["watch", "figures"],
];
const number = (text: string): number | null => (text.trim() ? Number(text) : null);

export function Keys({ published }: { published: Published }) {
  const own = useMay("owner");
  const [made, setMade] = useState<MadeKey | null>(null);
  return (
    <section className="served-keys" aria-label="Keys">
      {made && <Secret made={made} close={() => setMade(null)} />}
      {published.keys.length > 0 ? (
        <table className="table table-sm small-text num">
          <thead>
            <tr>
              <th>key</th>
              <th>for</th>
              <th>at most</th>
              <th>ends</th>
              <th className="text-end">today</th>
              <th className="text-end">7 days</th>
              <th className="text-end">refused</th>
              <th>
                <span className="visually-hidden">take back</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {published.keys.map((key) => (
              <Row key={key.id} held={key} published={published} />
            ))}
          </tbody>
        </table>
      ) : (
        <p className="soft">
          No key yet. Each assistant gets one of its own, so that one can be taken back without the others.
        </p>
      )}
      {own && <NewKey published={published} made={setMade} />}
      <Examples published={published} />
    </section>
  );
}

function Row({ held, published }: { held: Key; published: Published }) {
  const take = useTakeKeyBack(published.id);
  const own = useMay("owner");
  const over = held.revoked_at ?? (held.expires_at && new Date(held.expires_at) < new Date());
  const limits = [
    held.a_minute !== null && `${held.a_minute.toLocaleString()} a minute`,
    held.a_day !== null && `${held.a_day.toLocaleString()} a day`,
  ].filter(Boolean);
  return (
    <tr className={over ? "over" : ""}>
      <td>
        <strong>{held.name}</strong> <span className="mono soft">{held.begins}…</span>
        {held.second && <span className="soft"> second version</span>}
      </td>
      <td>{held.scopes.map((scope) => SCOPES.find(([name]) => name === scope)?.[1]).join(", ")}</td>
      <td>{limits.join(", ") || "no limit"}</td>
      <td>
        {held.revoked_at
          ? `taken back ${new Date(held.revoked_at).toLocaleDateString()}`
          : held.expires_at
            ? new Date(held.expires_at).toLocaleDateString()
            : "never"}
      </td>
      <td className="text-end">{held.today.toLocaleString()}</td>
      <td className="text-end">{held.week.toLocaleString()}</td>
      <td className={`text-end ${held.refused ? "lost" : ""}`}>{held.refused.toLocaleString()}</td>
      <td className="text-end">
        {own && !held.revoked_at && (
          <Button size="sm" variant="outline-danger" onClick={() => take.mutate(held.id)}>
            Take back
          </Button>
        )}
      </td>
    </tr>
  );
}

/** The secret, the only time that it is told. */
function Secret({ made, close }: { made: MadeKey; close: () => void }) {
  const [copied, setCopied] = useState(false);
  return (
    <div className="secret" role="status">
      <strong>The key of {made.name}.</strong> It is shown now and never again.
      <div className="d-flex gap-2 align-items-center mt-1">
        <code className="mono">{made.secret}</code>
        <Button
          size="sm"
          variant="outline-primary"
          onClick={() => void navigator.clipboard.writeText(made.secret).then(() => setCopied(true))}
        >
          {copied ? "Copied" : "Copy"}
        </Button>
        <Button size="sm" variant="outline-primary" onClick={close}>
          I have it
        </Button>
      </div>
    </div>
  );
}

function NewKey({ published, made }: { published: Published; made: (key: MadeKey) => void }) {
  const make = useMakeKey(published.id);
  const [name, setName] = useState("");
  const [scopes, setScopes] = useState<Key["scopes"]>(["search", "answer", "read"]);
  const [minute, setMinute] = useState("120");
  const [day, setDay] = useState("");
  const [days, setDays] = useState("365");
  const send = (event: FormEvent) => {
    event.preventDefault();
    make.mutate(
      { name, scopes, a_minute: number(minute), a_day: number(day), days: number(days) },
      { onSuccess: (key) => (made(key), setName("")) },
    );
  };
  const limits: [string, string, (value: string) => void][] = [
    ["a minute, at most", minute, setMinute],
    ["a day, at most", day, setDay],
    ["ends after days", days, setDays],
  ];
  return (
    <form className="new-key small-text" aria-label="New key" onSubmit={send}>
      <label>
        New key for{" "}
        <input
          className="form-control form-control-sm"
          value={name}
          maxLength={80}
          required
          placeholder="the desk's assistant"
          onChange={(event) => setName(event.target.value)}
        />
      </label>
      <fieldset>
        <legend>may ask for</legend>
        {SCOPES.map(([scope, title]) => (
          <label key={scope} className="me-2">
            <input
              type="checkbox"
              checked={scopes.includes(scope)}
              onChange={(event) =>
                setScopes(event.target.checked ? [...scopes, scope] : scopes.filter((one) => one !== scope))
              }
            />{" "}
            {title}
          </label>
        ))}
      </fieldset>
      {limits.map(([title, value, set]) => (
        <label key={title}>
          {title}{" "}
          <input
            className="form-control form-control-sm num"
            inputMode="numeric"
            value={value}
            placeholder="no limit"
            onChange={(event) => set(event.target.value)}
          />
        </label>
      ))}
      <Button size="sm" type="submit" disabled={make.isPending || !scopes.length}>
        Make key
      </Button>
      {make.error && (
        <span className="lost" role="alert">
          {make.error.message}
        </span>
      )}
    </form>
  );
}
