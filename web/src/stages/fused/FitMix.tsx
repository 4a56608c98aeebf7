// The mix that the labels speak for: weights as plain numbers, how sure they are, and what they are worth.
import { scaleLinear } from "d3-scale";
import type { Schemas } from "../../api/client";
import { useLine } from "../../api/queries";
import { Shown } from "../../shell/states";
import { counted, score } from "../../text/numbers";
import { chance, signed } from "../../trials/api";
import { Measured } from "../shared/Measured";
import { TakeUp } from "../shared/TakeUp";
import { useBranches } from "../shared/branch";
import { useFusionFit, useStartFusionFit } from "./api";

type Fit = Schemas["FittedMix"];

const WIDE = 260;
const ROW = 24;

export function FitMix() {
  const fit = useFusionFit();
  const start = useStartFusionFit();
  return (
    <Shown query={fit} what="Reading what was fitted">
      {(data) => (
        <Measured
          job={data.job}
          there={data.fit !== null}
          start={start}
          title="The mix has not been fitted to your labels"
          button="Fit the mix"
          why={
            <>
              Weights begin where they are today and move as far as the labels carry; scaled scores and ranks
              together are tried beside the method in force. What it is worth is told of questions that it has
              not seen.
              {start.error && <span className="lost d-block">{start.error.message}</span>}
            </>
          }
        >
          {(again) => <Fitted fit={data.fit!} again={again} />}
        </Measured>
      )}
    </Shown>
  );
}

function Fitted({ fit, again }: { fit: Fit; again: (() => void) | null }) {
  const line = useLine();
  const weights = Object.fromEntries(fit.weights.map(({ branch, weight }) => [branch, weight]));
  const now = line.data?.recipe.body.fusion as
    { method: string; weights: Record<string, number> } | undefined;
  const inForce =
    now?.method === fit.settings.method &&
    fit.weights.every(({ branch, weight }) => now?.weights[branch] === weight);
  return (
    <section aria-label="Mix fitted to labels" className="mt-3">
      <h3>
        Fitted to labels: {fit.method}
        {typeof fit.settings.ranks === "number" && `, ${score(fit.settings.ranks)} of it ranks`}
      </h3>
      {!fit.current && (
        <p className="notice small-text">
          Documents or labels have changed since; fit again for figures of today.
        </p>
      )}
      <Shares fit={fit} />
      <table className="table table-sm small-text num mt-2 mb-1">
        <thead>
          <tr>
            <th>Fused list, larger is better</th>
            <th className="text-end">today</th>
            <th className="text-end" title="On the very questions that it was fitted to">
              seen
            </th>
            <th className="text-end" title="On questions that it has not seen">
              unseen
            </th>
            <th>unseen to today</th>
          </tr>
        </thead>
        <tbody>
          {fit.figures.map((figure) => (
            <tr key={figure.metric}>
              <td>{figure.metric}</td>
              <td className="text-end">{score(figure.today)}</td>
              <td className="text-end soft">{score(figure.flattering)}</td>
              <td className="text-end">
                <b>{score(figure.honest)}</b>
              </td>
              <td className={figure.said === "better" ? "gain" : figure.said === "worse" ? "lost" : ""}>
                {figure.against.wins || figure.against.losses
                  ? `${signed(figure.against.mean)} ${figure.said}, ${chance(figure.against.p)}`
                  : figure.said}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="small-text soft mb-0">
        {counted(fit.told, "question")} of {fit.questions} have an answer among what the branches found, and
        only these say anything. {fit.same} of 5 folds chose the same method.
      </p>
      <TakeUp
        inForce={inForce}
        changed={(body) => ({
          ...body,
          fusion: { ...fit.settings, weights, depth: (body.fusion as { depth: number }).depth },
        })}
        note="mix fitted to labels"
      >
        Use these weights
      </TakeUp>
      {again && (
        <button type="button" className="btn btn-link btn-sm ms-2 mt-2" onClick={again}>
          Fit again
        </button>
      )}
    </section>
  );
}

/** The share of each branch with its interval, and where it is today. */
function Shares({ fit }: { fit: Fit }) {
  const x = scaleLinear()
    .domain([0, 1])
    .range([4, WIDE - 4]);
  const total = Object.values(fit.today).reduce((a, b) => a + b, 0);
  const families = new Map(useBranches().map(({ id, family }) => [id, family]));
  return (
    <table className="small-text num shares">
      <thead>
        <tr>
          <td />
          <th>share of the weights, 0 to 1</th>
          <th className="text-end">weight</th>
        </tr>
      </thead>
      <tbody>
        {fit.weights.map(({ branch, weight, share, low, high }) => (
          <tr key={branch}>
            <th scope="row">{branch}</th>
            <td>
              <svg
                width={WIDE}
                height={ROW}
                role="img"
                aria-label={`${score(share)}, from ${score(low)} to ${score(high)}; today ${score((fit.today[branch] ?? 0) / total)}`}
              >
                <line className="rail" x1={x(0)} x2={x(1)} y1={ROW / 2} y2={ROW / 2} />
                <line
                  x1={x(low)}
                  x2={x(high)}
                  y1={ROW / 2}
                  y2={ROW / 2}
                  stroke={`var(--${families.get(branch) ?? "fused"})`}
                  strokeWidth="7"
                  opacity="0.35"
                />
                <circle
                  cx={x(share)}
                  cy={ROW / 2}
                  r="5.5"
                  fill={`var(--${families.get(branch) ?? "fused"})`}
                />
                <path className="today" d={`M${x((fit.today[branch] ?? 0) / total)},3v${ROW - 6}`} />
              </svg>
            </td>
            <td className="text-end">
              {weight} <span className="soft">was {fit.today[branch] ?? 0}</span>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
