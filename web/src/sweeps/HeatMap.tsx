// Two settings against each other: every cell is a mean, the others stand as in the chosen row.
import { useState } from "react";
import { score } from "../text/numbers";
import { same, valued, type Moved, type Swept, type SweepRow } from "./api";
import { byReach } from "./marginal";

export function HeatMap({ data, row, pick }: { data: Swept; row: SweepRow; pick: (place: number) => void }) {
  const order = byReach(data.rows, data.moved);
  const [names, setNames] = useState<[string, string] | null>(null);
  const [across, down] = (names ?? [order[0]!.path, order[1]!.path]).map((path) =>
    data.moved.find((one) => one.path === path)!,
  ) as [Moved, Moved];
  const means = data.rows.flatMap(({ mean }) => (mean === null ? [] : [mean]));
  const [low, high] = [Math.min(...means), Math.max(...means)];
  const others = data.moved.filter((one) => one !== across && one !== down);
  const at = (x: unknown, y: unknown) =>
    data.rows.find(
      ({ settings }) =>
        same(settings[across.path], x) &&
        same(settings[down.path], y) &&
        others.every(({ path }) => same(settings[path], row.settings[path])),
    );
  return (
    <figure className="heat mb-0">
      <figcaption className="small-text">
        <Chooser
          moved={data.moved}
          value={across.path}
          choose={(path) => setNames([path, path === down.path ? across.path : down.path])}
          label="Across"
        />
        <span className="soft"> across, </span>
        <Chooser
          moved={data.moved}
          value={down.path}
          choose={(path) => setNames([path === across.path ? down.path : across.path, path])}
          label="Down"
        />
        <span className="soft"> down; darker is better</span>
      </figcaption>
      <table className="num">
        <thead>
          <tr>
            <td />
            {across.values.map((x) => (
              <th key={valued(x)} scope="col">
                {valued(x)}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {down.values.map((y) => (
            <tr key={valued(y)}>
              <th scope="row">{valued(y)}</th>
              {across.values.map((x) => {
                const cell = at(x, y);
                if (!cell || cell.mean === null) return <td key={valued(x)} className="none" />;
                const share = high > low ? (cell.mean - low) / (high - low) : 1;
                const role = cell.place === data.chosen?.chosen ? "chosen" : cell.place === 0 ? "now" : "";
                return (
                  <td key={valued(x)}>
                    <button
                      type="button"
                      className={`${cell === row ? "picked" : ""} ${role}`}
                      aria-pressed={cell === row}
                      aria-label={`${across.title} ${valued(x)}, ${down.title} ${valued(y)}: ${score(cell.mean)}${role ? `, ${role}` : ""}`}
                      style={{
                        background: `color-mix(in srgb, var(--answer) ${(6 + 64 * share).toFixed(0)}%, var(--card))`,
                      }}
                      onClick={() => pick(cell.place)}
                    >
                      {score(cell.mean)}
                      {role && <small>{role}</small>}
                    </button>
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
      {others.length > 0 && (
        <p className="small-text soft mb-0 num">
          with {others.map(({ path, title }) => `${title} ${valued(row.settings[path])}`).join(", ")}
        </p>
      )}
    </figure>
  );
}

function Chooser({
  moved,
  value,
  choose,
  label,
}: {
  moved: Moved[];
  value: string;
  choose: (path: string) => void;
  label: string;
}) {
  return (
    <select
      className="form-select form-select-sm d-inline-block w-auto"
      aria-label={label}
      value={value}
      onChange={(event) => choose(event.target.value)}
    >
      {moved.map(({ path, title }) => (
        <option key={path} value={path}>
          {title}
        </option>
      ))}
    </select>
  );
}
