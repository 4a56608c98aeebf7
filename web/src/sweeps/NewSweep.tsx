// A new sweep: which settings move, over what values, and what that will take before it is begun.
import { useDeferredValue, useState } from "react";
import { Button } from "react-bootstrap";
import type { Recipe } from "../api/client";
import { useLine } from "../api/queries";
import { useRecipes } from "../recipe/api";
import { Shown } from "../shell/states";
import { counted, duration } from "../text/numbers";
import { DELIVERED, FigureChoice, useMetricName, type Figure } from "../trials/FigureChoice";
import { useAxes, useOutlook, useStartSweep, valued, type AxisOffer, type NewSweep as Wish } from "./api";

const MOST_AXES = 6;
const WAYS: [Wish["by"] & string, string, string][] = [
  ["grid", "every combination", "All settings, over all questions."],
  [
    "halving",
    "every combination, few questions first",
    "All settings over 30 questions, the better half over more, and so on: for many settings.",
  ],
  ["random", "some at random", "As many as you say, drawn from all combinations."],
];
/** Where a recipe ends, as a figure names it: by itself. */
const LAST = "";

interface Axis {
  path: string;
  values: string;
}

export function NewSweep({ open }: { open: (sweep: number) => void }) {
  const recipes = useRecipes();
  const line = useLine();
  const [picked, setPicked] = useState<number | null>(null);
  return (
    <Shown query={recipes} what="Reading the recipes">
      {(list) => {
        const recipe =
          list.find(({ id }) => id === picked) ??
          list.find(({ id }) => id === line.data?.recipe.id) ??
          list[0];
        return recipe ? (
          <>
            <h2>New sweep</h2>
            <label className="small-text d-block mb-2">
              Recipe{" "}
              <select
                className="form-select form-select-sm d-inline-block w-auto"
                value={recipe.id}
                onChange={(event) => setPicked(Number(event.target.value))}
              >
                {list.map((one) => (
                  <option key={one.id} value={one.id}>
                    {one.name} v{one.version}
                    {one.in_force ? ", in force" : ""}
                  </option>
                ))}
              </select>
            </label>
            <Wished key={recipe.id} recipe={recipe} open={open} />
          </>
        ) : (
          <p className="soft">A sweep changes a recipe; save one first.</p>
        );
      }}
    </Shown>
  );
}

function Wished({ recipe, open }: { recipe: Recipe; open: (sweep: number) => void }) {
  const offers = useAxes(recipe.id);
  const [axes, setAxes] = useState<Axis[]>([]);
  const [figure, setFigure] = useState<Figure>({ metric: "recall", k: 5, stage: LAST });
  const [by, setBy] = useState<Wish["by"] & string>("grid");
  const [most, setMost] = useState(50);
  const named = useMetricName(figure);
  const wish: Wish = {
    recipe: recipe.id,
    axes: axes.map(({ path, values }) => `${path}=${values}`),
    figure: figure.stage && named !== DELIVERED ? `${figure.stage}:${named}` : named,
    by,
    most,
    seed: 0,
  };
  const asked = useDeferredValue(axes.length && axes.every(({ values }) => values.trim()) ? wish : null);
  const outlook = useOutlook(asked);
  const start = useStartSweep(open);
  const body = recipe.body as { branches: { id: string }[]; rerank: unknown };
  const stages = [...body.branches.map(({ id }) => id), ...(body.rerank ? ["fused", "reranked"] : ["fused"])];
  return (
    <Shown query={offers} what="Reading the settings">
      {(list) => (
        <>
          <Axes {...{ axes, setAxes }} offers={list} />
          <div className="d-flex flex-wrap align-items-center gap-3 small-text my-3">
            <FigureChoice
              label="Measured by"
              value={figure}
              choose={setFigure}
              stages={[
                [LAST, "context (what is delivered)"],
                ...[...stages].reverse().map((name): [string, string] => [name, name]),
              ]}
            />
            <label>
              Try{" "}
              <select
                className="form-select form-select-sm d-inline-block w-auto"
                value={by}
                title={WAYS.find(([way]) => way === by)?.[2]}
                onChange={(event) => setBy(event.target.value as Wish["by"] & string)}
              >
                {WAYS.map(([way, title]) => (
                  <option key={way} value={way}>
                    {title}
                  </option>
                ))}
              </select>
            </label>
            {by === "random" && (
              <label>
                how many{" "}
                <input
                  type="number"
                  min={1}
                  max={2000}
                  className="form-control form-control-sm d-inline-block"
                  style={{ width: "5.5rem" }}
                  value={most}
                  onChange={(event) => setMost(Number(event.target.value))}
                />
              </label>
            )}
          </div>
          <div className="d-flex align-items-center gap-3" role="status">
            <Button
              disabled={!asked || outlook.isError || !outlook.data || start.isPending}
              onClick={() => start.mutate(wish)}
            >
              Begin
            </Button>
            {!axes.length ? (
              <span className="soft">Choose at least one setting to move.</span>
            ) : outlook.isError ? (
              <span className="lost">{outlook.error.message}</span>
            ) : outlook.data ? (
              <span className="num">
                {counted(outlook.data.settings, "setting")} × {counted(outlook.data.questions, "question")},{" "}
                {outlook.data.builds
                  ? `${counted(outlook.data.builds, "index").replace("indexs", "indexes")} to build in about ${duration(Math.max(outlook.data.building, 1))}, then `
                  : "nothing to build, "}
                {outlook.data.seconds === null
                  ? "time unknown until the recipe is measured"
                  : `about ${duration(Math.max(outlook.data.seconds, 1))} of asking`}
              </span>
            ) : null}
          </div>
          {start.error && <p className="lost small-text mt-1">{start.error.message}</p>}
        </>
      )}
    </Shown>
  );
}

function Axes({
  axes,
  setAxes,
  offers,
}: {
  axes: Axis[];
  setAxes: (axes: Axis[]) => void;
  offers: AxisOffer[];
}) {
  const left = offers.filter(({ path }) => !axes.some((axis) => axis.path === path));
  const parts = [...new Set(left.map(({ title }) => title.split(": ")[0]!))];
  return (
    <>
      <table className="table table-sm align-middle axes mb-2">
        <thead>
          <tr>
            <th>Setting</th>
            <th>now</th>
            <th>Values: 1, 2, 4 or 0.5..2/7, and 1..64/7 log for even ratios</th>
            <th>
              <span className="visually-hidden">remove</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {axes.map(({ path, values }) => {
            const offer = offers.find((one) => one.path === path)!;
            return (
              <tr key={path}>
                <td>
                  {offer.title}
                  {offer.built && <span className="soft small-text"> is built for each value</span>}
                </td>
                <td className="num">{valued(offer.now)}</td>
                <td>
                  <input
                    className="form-control form-control-sm num"
                    aria-label={`Values of ${offer.title}`}
                    value={values}
                    onChange={(event) =>
                      setAxes(
                        axes.map((axis) =>
                          axis.path === path ? { path, values: event.target.value } : axis,
                        ),
                      )
                    }
                  />
                </td>
                <td>
                  <Button
                    size="sm"
                    variant="link"
                    onClick={() => setAxes(axes.filter((axis) => axis.path !== path))}
                  >
                    remove
                  </Button>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {axes.length < MOST_AXES && (
        <select
          className="form-select form-select-sm w-auto"
          aria-label="Add a setting"
          value=""
          onChange={(event) => {
            const offer = offers.find(({ path }) => path === event.target.value);
            if (offer) setAxes([...axes, { path: offer.path, values: offer.values }]);
          }}
        >
          <option value="">Add a setting…</option>
          {parts.map((part) => (
            <optgroup key={part} label={part}>
              {left
                .filter(({ title }) => title.startsWith(`${part}: `))
                .map(({ path, title, built }) => (
                  <option key={path} value={path}>
                    {title.slice(part.length + 2)}
                    {built ? " (built anew)" : ""}
                  </option>
                ))}
            </optgroup>
          ))}
        </select>
      )}
    </>
  );
}
