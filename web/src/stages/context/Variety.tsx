// How much passages may repeat each other: a strength to drag, and what each that was tried does to all labelled questions.
import { useEffect, useState } from "react";
import { Form, Table } from "react-bootstrap";
import { useLine } from "../../api/queries";
import { differences, useDraft, useDraftMeasured, type Measured } from "../../draft/draft";
import { field, withField, type RecipeBody } from "../../recipe/paths";
import { percent, score } from "../../text/numbers";

const PAUSE = 300;
const NONE = "none";
const PATH = "select.diversity";

export function Variety() {
  const recipe = useLine().data?.recipe;
  return recipe ? (
    <Strength key={recipe.id} id={recipe.id} body={recipe.body as unknown as RecipeBody} />
  ) : null;
}

const strengthOf = (body: RecipeBody): number =>
  field(body, `${PATH}.kind`) === NONE ? 0 : Number(field(body, `${PATH}.strength`) ?? 0);

function Strength({ id, body }: { id: number; body: RecipeBody }) {
  const { draft, set } = useDraft(id);
  const own = strengthOf(body);
  const now = draft ? strengthOf(draft.body) : own;
  const [strength, setStrength] = useState(now);
  const [tried, setTried] = useState<Record<string, Measured>>({});
  const kind = String(field(body, `${PATH}.kind`) ?? NONE);
  const [touched, setTouched] = useState(false);
  // The recipe as it stands is asked too once somebody drags, so that there is something to compare with.
  const whole = useDraftMeasured(touched ? { recipe: id, body, changes: [] } : null).data;
  const measured = useDraftMeasured(draft).data;

  useEffect(() => {
    if (strength === now) return;
    const waiting = setTimeout(() => {
      const chosen = kind === NONE ? "vectors" : kind;
      const from = draft?.body ?? body;
      const next = withField(from, PATH, strength ? { kind: chosen, strength } : { kind: NONE });
      const changes = differences(body, next);
      set(changes.length ? { recipe: id, body: next, changes } : null);
    }, PAUSE);
    return () => clearTimeout(waiting);
  }, [strength, now, kind, body, draft, id, set]);

  // Of drafts those are noted that change nothing else.
  const alone = draft !== null && draft.changes.every((change) => change.startsWith(PATH));
  useEffect(() => {
    if (alone && measured && measured.measured === measured.questions)
      setTried((before) => ({ ...before, [now]: measured }));
  }, [alone, measured, now]);
  const every: Record<string, Measured> = whole ? { ...tried, [own]: whole } : tried;
  const rows = Object.entries(every)
    .map(([at, found]) => ({ at: Number(at), found }))
    .sort((a, b) => a.at - b.at);

  return (
    <section className="variety mb-3">
      <h3>
        Variety <span className="soft fw-normal">how much what repeats is held back; the draft follows</span>
      </h3>
      <div className="d-flex gap-3 align-items-center">
        <Form.Range
          min={0}
          max={1}
          step={0.05}
          value={strength}
          aria-label="Strength of variety"
          style={{ maxWidth: "22rem" }}
          onChange={(event) => {
            setTouched(true);
            setStrength(Number(event.target.value));
          }}
        />
        <strong className="num">{strength ? score(strength) : "off"}</strong>
      </div>
      {rows.length > 0 && (
        <Table size="sm" className="small-text num" style={{ maxWidth: "34rem" }}>
          <thead>
            <tr>
              <th>Strength</th>
              <th className="text-end">Delivered</th>
              <th
                className="text-end"
                title="mean share of the answers' characters in the context; larger is better"
              >
                Of the answers
              </th>
              <th
                className="text-end"
                title="mean of each passage's largest cosine to one before it; smaller repeats less"
              >
                Repeats
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map(({ at, found }) => (
              <tr key={at} className={at === now ? "fw-semibold" : ""}>
                <td>
                  {at ? score(at) : "off"} {at === own && <span className="soft">in force</span>}
                </td>
                <td className="text-end">
                  {found.delivered} of {found.answerable}
                </td>
                <td className="text-end">{found.coverage === null ? "" : percent(found.coverage)}</td>
                <td className="text-end">{found.repeats === null ? "" : score(found.repeats)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </section>
  );
}
