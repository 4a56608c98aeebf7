// Gates: figures that are watched, each with its history and what moved it.
import { useState } from "react";
import { Button } from "react-bootstrap";
import { Shown } from "../shell/states";
import { useMay } from "../shell/workspace";
import { chance, signed } from "../trials/api";
import { counted, score } from "../text/numbers";
import { useGates, useLookAtGate, useRemoveGate, useTakeBaseline, type Gate, type GateResult } from "./api";
import { Course } from "./Course";
import { NewGate } from "./NewGate";

export function Gates() {
  const gates = useGates();
  const mayEdit = useMay("editor");
  const [making, setMaking] = useState(false);
  return (
    <Shown query={gates} what="Reading the gates">
      {(list) => (
        <div className="gates">
          <div className="d-flex align-items-center gap-3">
            <h2>Gates</h2>
            <span className="soft small-text">
              figures that are measured again whenever documents change, and on a schedule if you say so
            </span>
            {mayEdit && !making && list.length > 0 && (
              <Button size="sm" className="ms-auto" onClick={() => setMaking(true)}>
                New gate
              </Button>
            )}
          </div>
          {mayEdit && (making || list.length === 0) && <NewGate close={() => setMaking(false)} />}
          {list.map((gate) => (
            <One key={gate.id} gate={gate} />
          ))}
        </div>
      )}
    </Shown>
  );
}

function One({ gate }: { gate: Gate }) {
  const [picked, setPicked] = useState<number | null>(null);
  const result = gate.results.find(({ trial }) => trial === picked) ?? gate.results[0];
  const newest = gate.results[0];
  const look = useLookAtGate();
  const take = useTakeBaseline();
  const remove = useRemoveGate();
  const mayEdit = useMay("editor");
  if (!result || !newest) return null;
  return (
    <section className={`gate ${newest.open ? "open" : "closed"}`} aria-label={`Gate of ${gate.title}`}>
      <div className="d-flex flex-wrap align-items-baseline gap-3">
        <h3>
          <span className="sign" aria-hidden="true">
            {newest.open ? "✓" : "✕"}
          </span>{" "}
          {gate.title}: {newest.open ? "open" : "closed"}
        </h3>
        <span className="small-text soft">
          {gate.recipe ? `${gate.recipe.name} v${gate.recipe.version}` : "the recipe in force"}
          {gate.least !== null && `, at least ${score(gate.least)}`}
          {gate.worst !== null && `, no more than ${score(gate.worst)} below its baseline`}
          {gate.every !== null &&
            `, every ${gate.every % 24 ? counted(gate.every, "hour") : counted(gate.every / 24, "day")}`}
          {!gate.current &&
            (gate.job ? "; being measured again" : "; documents or labels have changed since")}
        </span>
        {mayEdit && (
          <span className="ms-auto d-flex gap-2">
            <Button
              size="sm"
              variant="outline-primary"
              disabled={gate.job !== null || look.isPending}
              onClick={() => look.mutate(gate.id)}
            >
              {gate.job ? "Measuring" : "Measure now"}
            </Button>
            {gate.worst !== null && gate.baseline !== newest.trial && (
              <Button size="sm" variant="outline-primary" onClick={() => take.mutate(gate.id)}>
                Newest is the baseline
              </Button>
            )}
            <Button size="sm" variant="outline-danger" onClick={() => remove.mutate(gate.id)}>
              Remove
            </Button>
          </span>
        )}
      </div>
      <div className="course-split">
        <Course gate={gate} picked={result.trial} pick={setPicked} />
        <Said result={result} />
      </div>
    </section>
  );
}

/** What a result says: the figure, why it is closed, and what moved it. */
function Said({ result }: { result: GateResult }) {
  const { before, against } = result;
  return (
    <div className="small-text num" aria-live="polite">
      <p className="mb-1">
        <b>{score(result.mean)}</b> over {counted(result.questions, "question")},{" "}
        {new Date(result.at).toLocaleString()}, {result.recipe.name} v{result.recipe.version}
      </p>
      {result.reasons.map((reason) => (
        <p key={reason} className="lost mb-1">
          {reason}
        </p>
      ))}
      {against && (
        <p className="mb-1">
          To the baseline {signed(against.mean)} ({signed(against.low)} to {signed(against.high)},{" "}
          {chance(against.p)}): {against.said}.
        </p>
      )}
      {before && (
        <p className="mb-1">
          To the result before{" "}
          {result.moved
            ? `${signed(before.mean)}, ${counted(result.moved, "question")} moved: ${before.said}.`
            : "nothing moved."}
        </p>
      )}
      {result.documents.length > 0 && (
        <table className="table table-sm mb-0">
          <thead>
            <tr>
              <th>Documents changed since</th>
              <th />
              <th className="text-end" title="Questions that moved and whose answer is in it">
                its answers moved
              </th>
              <th className="text-end" title="Other questions that moved and were handed passages of it">
                its passages came in
              </th>
            </tr>
          </thead>
          <tbody>
            {result.documents.map(({ name, became, answers, handed }) => (
              <tr key={name}>
                <td className="text-truncate">{name}</td>
                <td className="soft">{became}</td>
                <td className="text-end">{answers || "–"}</td>
                <td className="text-end">{handed || "–"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
