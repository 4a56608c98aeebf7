// The settings of a branch: weighting and fields of a sparse one, encoder, metric and structure of a dense one.
import { Form } from "react-bootstrap";
import { useEncoders } from "../api/indexes";
import { useCatalogue } from "../api/catalogue";
import { METRICS, type Structure } from "../stages/dense/structures";
import { startOf } from "./kinds";
import { VARIANTS } from "../stages/sparse/variants";
import { field, type RecipeBody } from "./paths";

interface Given {
  path: string;
  body: RecipeBody;
  set: (path: string, value: unknown) => void;
  number: (path: string, label: string, hint?: string) => React.ReactNode;
  choice: (path: string, label: string, options: Record<string, string>) => React.ReactNode;
}

const FIELDS: Record<string, { weight: number; b: number; analysis: null }> = {
  title: { weight: 2, b: 0.75, analysis: null },
  headings: { weight: 1.5, b: 0.75, analysis: null },
  body: { weight: 1, b: 0.75, analysis: null },
};

export function SparseFields({ path, body, set, number, choice }: Given) {
  const variant = String(field(body, `${path}.variant`));
  const fields = field(body, `${path}.fields`) as Record<string, unknown> | null;
  return (
    <>
      {choice(`${path}.variant`, "Weighting", VARIANTS)}
      {variant !== "dirichlet" && variant !== "tf-idf" && (
        <>
          {number(`${path}.k1`, "k1", "0 to 10; repeats of a term count for more as it rises")}
          {!fields && number(`${path}.b`, "b", "0 to 1; holds long chunks back")}
        </>
      )}
      {(variant === "plus" || variant === "long") &&
        number(`${path}.delta`, "delta", "empty: the paper's own")}
      {variant === "dirichlet" &&
        number(`${path}.mu`, "mu, in terms", "terms of the corpus mixed into a chunk")}
      {variant === "okapi" && (
        <Form.Check
          id={`${path}.fields`}
          label="title, headings and body as fields"
          checked={fields !== null && fields !== undefined}
          onChange={(event) => set(`${path}.fields`, event.target.checked ? FIELDS : null)}
        />
      )}
      {fields &&
        Object.keys(FIELDS)
          .filter((name) => fields[name])
          .map((name) => number(`${path}.fields.${name}.weight`, `Weight of ${name}`))}
    </>
  );
}

export function DenseFields({ path, body, set, number, choice }: Given) {
  const encoders = useEncoders();
  const kinds = useCatalogue().structures;
  const structure = field(body, `${path}.structure`) as Structure;
  const chosen = String(field(body, `${path}.encoder`));
  const names = Object.fromEntries((encoders.data ?? []).map(({ name, title }) => [name, title]));
  const warning = encoders.data?.find(({ name }) => name === chosen)?.warning;
  return (
    <>
      {choice(`${path}.encoder`, "Encoder", { [chosen]: chosen, ...names })}
      {choice(`${path}.metric`, "Compared by", METRICS)}
      <div>
        <label htmlFor={`${path}.structure`}>Search</label>
        <Form.Select
          id={`${path}.structure`}
          size="sm"
          value={structure.kind}
          onChange={(event) => {
            const kind = kinds.find(({ name }) => name === event.target.value)!;
            set(`${path}.structure`, { kind: kind.name, ...startOf(kind) });
          }}
        >
          {kinds.map(({ name, title }) => (
            <option key={name} value={name}>
              {title}
            </option>
          ))}
        </Form.Select>
      </div>
      {kinds
        .find(({ name }) => name === structure.kind)
        ?.settings.map(({ name, title }) => (
          <div key={`${structure.kind}.${name}`}>{number(`${path}.structure.${name}`, title)}</div>
        ))}
      {warning && (
        <div className="wrong" role="alert">
          {warning}
        </div>
      )}
    </>
  );
}
