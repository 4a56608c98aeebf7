// The draft below the line: what it changes, what it is worth so far, and keeping or dropping it.
import { useEffect, useState } from "react";
import { Button } from "react-bootstrap";
import type { Recipe } from "../api/client";
import { useSaveRecipe } from "../recipe/api";
import { keysElsewhere } from "../shell/keysElsewhere";
import { GOOD, useGo } from "../shell/pin";
import { percent } from "../text/numbers";
import { mustBuild, useDraft, useDraftMeasured, type Measured } from "./draft";

const CHANGES_SHOWN = 3;

export function DraftBar({ recipe, edit }: { recipe: Recipe; edit: () => void }) {
  const { draft, set } = useDraft(recipe.id);
  const measured = useDraftMeasured(draft);
  const save = useSaveRecipe(() => set(null));
  const [open, setOpen] = useState(false);
  const keep = () => draft && save.mutate({ body: draft.body, note: draft.changes.join("; ").slice(0, 300) });
  const pending = save.isPending;
  useEffect(() => {
    if (!draft) return;
    function pressed(event: KeyboardEvent) {
      if (keysElsewhere(event) || document.querySelector("[data-keys='own']")) return;
      if (event.key === "y" && !pending) keep();
      if (event.key === "x") set(null);
    }
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  });
  if (!draft) return null;
  const { data, error } = measured;
  const more = draft.changes.length - CHANGES_SHOWN;
  return (
    <section className="draft-bar" aria-label="Draft">
      <div className="d-flex gap-3 align-items-baseline">
        <strong>Draft</strong>
        <span className="changes small-text mono" title={draft.changes.join("\n")}>
          {draft.changes.slice(0, CHANGES_SHOWN).join("; ")}
          {more > 0 && ` and ${more} more`}
        </span>
        <span className="ms-auto d-flex gap-2">
          <Button size="sm" onClick={keep} disabled={save.isPending}>
            Keep <kbd>y</kbd>
          </Button>
          <Button size="sm" variant="outline-secondary" onClick={() => set(null)}>
            Drop <kbd>x</kbd>
          </Button>
          <Button size="sm" variant="outline-secondary" onClick={edit}>
            Edit
          </Button>
        </span>
      </div>
      <div className="small-text num" role="status">
        {error ? (
          <span className={mustBuild(error) ? "soft" : "lost"}>
            {mustBuild(error)
              ? "This would have to be built first, so nothing is known of it; keeping it builds and measures it."
              : error.message}
          </span>
        ) : data ? (
          <Worth data={data} open={open} toggle={() => setOpen(!open)} />
        ) : (
          <span className="soft">Asking the labelled questions …</span>
        )}
        {save.error && <span className="lost"> {save.error.message}</span>}
      </div>
      {open && data && <Moved data={data} />}
    </section>
  );
}

/** What it is worth so far, beside the kept recipe over the same questions. */
function Worth({ data, open, toggle }: { data: Measured; open: boolean; toggle: () => void }) {
  const better = data.moved.filter((row) => GOOD.includes(row.now)).length;
  const worse = data.moved.filter((row) => GOOD.includes(row.before)).length;
  return (
    <>
      Delivered {data.delivered_before !== null && <span className="soft">{data.delivered_before} → </span>}
      <strong className={tone(data)}>{data.delivered}</strong> of {data.answerable}
      {data.coverage !== null && <>, {percent(data.coverage)} of the answers handed on</>}
      {data.tokens !== null && <>, {Math.round(data.tokens).toLocaleString()} tokens a question</>}
      {data.measured < data.questions && (
        <span className="soft">
          {" "}
          · {data.measured} of {data.questions} asked so far
        </span>
      )}
      {data.moved.length > 0 && (
        <>
          {" · "}
          <button className="fold" aria-expanded={open} onClick={toggle}>
            {worse} worse, {better} better
            {data.moved.length - worse - better > 0 && `, ${data.moved.length - worse - better} otherwise`}
          </button>
        </>
      )}
    </>
  );
}

const tone = ({ delivered, delivered_before: before }: Measured): string =>
  before === null || delivered === before ? "" : delivered > before ? "gain" : "lost";

/** Questions that end otherwise; one click pins. */
function Moved({ data }: { data: Measured }) {
  const go = useGo();
  return (
    <ul className="moved small-text">
      {data.moved.map((row) => (
        <li key={row.id}>
          <button onClick={() => go({ pin: { question: row.id, text: null } })}>{row.text}</button>{" "}
          <span className="soft">{row.before} → </span>
          <span className={GOOD.includes(row.now) ? "gain" : "lost"}>{row.now}</span>
        </li>
      ))}
    </ul>
  );
}
