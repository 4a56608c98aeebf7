// Fit to labels: what weights the labelled questions speak for, and what that is worth on questions it has not seen.
import { useState } from "react";
import { usesOf } from "../../recipe/scorers";
import { useLine } from "../../api/queries";
import { Shown } from "../../shell/states";
import { score } from "../../text/numbers";
import { Measured } from "../shared/Measured";
import { TakeUp } from "../shared/TakeUp";
import { useFit, useScorers, useStartFit, type FittedVersion } from "./api";

const WIDE = 150;

export function Fit() {
  const fit = useFit();
  const start = useStartFit();
  return (
    <Shown query={fit} what="Reading what was fitted">
      {(data) => (
        <Measured
          job={data.job}
          there={data.versions.length > 0}
          start={start}
          title="Nothing has been fitted to your labels yet"
          button="Fit to labels"
          why="Every labelled question is reranked once. Weights of the scorers and of plain facts of a pair begin where other documentation put them, or, for scorers that no such weights ship for, where the recipe is today, and move away from there only as far as your labels carry; what they are worth is told of questions that they have not seen."
        >
          {(again) => <Versions versions={data.versions} again={again} />}
        </Measured>
      )}
    </Shown>
  );
}

function Versions({ versions, again }: { versions: FittedVersion[]; again: (() => void) | null }) {
  const line = useLine();
  const [chosen, setChosen] = useState<number | null>(null);
  const version = versions.find((row) => row.version === chosen) ?? versions[0]!;
  const inForce = usesOf(line.data?.recipe.body.rerank).some((use) => use.scorer === version.name);
  return (
    <div className="fit">
      <div>
        <Figures version={version} />
        <p className="small-text soft my-2">
          {version.better} questions better, {version.worse} worse of {version.questions}; the difference in
          MRR would come about by chance with p {version.p < 0.001 ? "below .001" : `= ${score(version.p)}`}.
          Each question was ordered by weights that had not seen it.
        </p>
        <TakeUp
          inForce={inForce}
          changed={(body) => {
            const before = body.rerank as { shortlist?: number } | null;
            return {
              ...body,
              rerank: {
                scorer: version.name,
                shortlist: before?.shortlist ?? 20,
                blend: 0,
                floor: null,
                window: null,
                windows: null,
              },
            };
          }}
          note={`Fitted to labels, v${version.version}`}
        >
          Use these weights
        </TakeUp>
        {again && (
          <button type="button" className="btn btn-link btn-sm ms-2 mt-2" onClick={again}>
            Fit again
          </button>
        )}
        {versions.length > 1 && (
          <label className="small-text d-block mt-3">
            Version{" "}
            <select
              className="form-select form-select-sm d-inline-block w-auto"
              value={version.version}
              onChange={(event) => setChosen(Number(event.target.value))}
            >
              {versions.map((row) => (
                <option key={row.version} value={row.version}>
                  v{row.version}, {row.recipe || "a recipe that is gone"}, MRR {score(row.fitted.mrr)}
                </option>
              ))}
            </select>
          </label>
        )}
      </div>
      <Weights version={version} />
    </div>
  );
}

function Figures({ version }: { version: FittedVersion }) {
  const rows: [string, keyof FittedVersion["today"]][] = [
    ["an answer comes first", "hit@1"],
    ["among the first 3", "hit@3"],
    ["among the first 5", "hit@5"],
    ["mean reciprocal rank", "mrr"],
  ];
  return (
    <table className="table table-sm small-text num">
      <thead>
        <tr>
          <th>Share of {version.questions} questions; larger is better</th>
          <th className="text-end">today</th>
          <th className="text-end">fitted, held out</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(([title, name]) => {
          const [before, after] = [version.today[name], version.fitted[name]];
          return (
            <tr key={name}>
              <td>{title}</td>
              <td className="text-end">{score(before)}</td>
              <td className={`text-end ${after > before ? "gain" : after < before ? "lost" : ""}`}>
                {score(after)}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** The weights as bars from the middle, and where each began. */
function Weights({ version }: { version: FittedVersion }) {
  const scorers = useScorers();
  const titles = new Map((scorers.data ?? []).map((row) => [row.name, row.title]));
  const most = Math.max(
    ...version.weights.flatMap((row) => [Math.abs(row.weight), Math.abs(row.start)]),
    1e-9,
  );
  const x = (value: number) => WIDE * (1 + value / most);
  return (
    <div>
      <h3>
        Weights <span className="soft fw-normal">of standardised values; right speaks for an answer</span>
      </h3>
      <table className="small-text num weights">
        <tbody>
          {version.weights.map((row) => (
            <tr key={row.name}>
              <th scope="row">{titles.get(row.name) ?? row.title}</th>
              <td>
                <svg
                  width={2 * WIDE + 8}
                  height="18"
                  role="img"
                  aria-label={`${score(row.weight)}, began at ${score(row.start)}`}
                >
                  <line className="middle" x1={WIDE + 4} x2={WIDE + 4} y1="0" y2="18" />
                  <rect
                    className={row.weight < 0 ? "against" : "for"}
                    x={4 + Math.min(x(0), x(row.weight))}
                    width={Math.max(Math.abs(x(row.weight) - x(0)), 1)}
                    y="4"
                    height="10"
                  />
                  <path className="began" d={`M${4 + x(row.start)},1 v16`} />
                </svg>
              </td>
              <td className="text-end">{score(row.weight)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="small-text soft">
        The thin upright line is where a weight began: what other documentation says, or what it counts today.
      </p>
    </div>
  );
}
