// A new gate: whose figure, which one, and what would close it.
import { useState, type FormEvent } from "react";
import { Button } from "react-bootstrap";
import { useRecipes } from "../recipe/api";
import { DELIVERED, FigureChoice, useMetricName, type Figure } from "../trials/FigureChoice";
import { useMakeGate } from "./api";

const STAGES = ["context", "reranked", "fused", "sparse", "dense"].map((name): [string, string] => [
  name,
  name,
]);
const TIMES: [hours: number | null, title: string][] = [
  [null, "when documents change"],
  [24, "and every day"],
  [24 * 7, "and every week"],
];
/** A field of a share that may be left empty. */
const share = (text: string): number | null => (text.trim() === "" ? null : Number(text));

export function NewGate({ close }: { close: () => void }) {
  const recipes = useRecipes().data ?? [];
  const [recipe, setRecipe] = useState<number | null>(null);
  const [figure, setFigure] = useState<Figure>({ metric: DELIVERED, k: 5, stage: "context" });
  const metric = useMetricName(figure);
  const [least, setLeast] = useState("0.80");
  const [worst, setWorst] = useState("");
  const [every, setEvery] = useState<number | null>(null);
  const make = useMakeGate();
  const send = (event: FormEvent) => {
    event.preventDefault();
    make.mutate(
      {
        recipe,
        metric,
        stage: metric === DELIVERED ? "context" : figure.stage,
        least: share(least),
        worst: share(worst),
        every,
      },
      { onSuccess: close },
    );
  };
  return (
    <form className="new-gate small-text" aria-label="New gate" onSubmit={send}>
      <label>
        Watch{" "}
        <select
          className="form-select form-select-sm"
          value={recipe ?? ""}
          onChange={(event) => setRecipe(event.target.value ? Number(event.target.value) : null)}
        >
          <option value="">the recipe in force, whichever it is</option>
          {recipes.map((one) => (
            <option key={one.id} value={one.id}>
              {one.name} v{one.version}
            </option>
          ))}
        </select>
      </label>
      <FigureChoice label="Figure" value={figure} choose={setFigure} stages={STAGES} />
      <label>
        at least, 0 to 1{" "}
        <input
          className="form-control form-control-sm num"
          inputMode="decimal"
          value={least}
          onChange={(event) => setLeast(event.target.value)}
        />
      </label>
      <label title="A loss from the baseline closes the gate where it is larger than this and no chance (p below .05)">
        loss that is borne{" "}
        <input
          className="form-control form-control-sm num"
          inputMode="decimal"
          placeholder="any"
          value={worst}
          onChange={(event) => setWorst(event.target.value)}
        />
      </label>
      <label>
        measured{" "}
        <select
          className="form-select form-select-sm"
          value={every ?? ""}
          onChange={(event) => setEvery(event.target.value ? Number(event.target.value) : null)}
        >
          {TIMES.map(([hours, title]) => (
            <option key={title} value={hours ?? ""}>
              {title}
            </option>
          ))}
        </select>
      </label>
      <Button size="sm" type="submit" disabled={make.isPending}>
        Make the gate
      </Button>
      {make.error && <p className="lost mb-0">{make.error.message}</p>}
    </form>
  );
}
