// What was measured: recipes against each other, settings that were tried, and figures that are watched.
import { NavLink, useParams } from "react-router";
import { useGates } from "../gates/api";
import { Gates } from "../gates/Gates";
import { Sweeps } from "../sweeps/Sweeps";
import { counted } from "../text/numbers";
import { Trials } from "./Trials";

const PARTS = [
  ["recipes", "Recipes"],
  ["sweeps", "Sweeps"],
  ["gates", "Gates"],
] as const;

export function TrialsPage() {
  const { part = "recipes" } = useParams();
  const closed = (useGates().data ?? []).filter(({ results }) => results[0] && !results[0].open).length;
  return (
    <main className="panel trials with-parts" aria-label="Trials">
      <nav className="parts" aria-label="About trials">
        {PARTS.map(([name, title]) => (
          <NavLink
            key={name}
            to={name === "recipes" ? "/trials" : `/trials/${name}`}
            className={part === name ? "active" : ""}
            end={name === "recipes"}
          >
            {title}
            {name === "gates" && closed > 0 && (
              <span className="count num" title={`${counted(closed, "gate")} closed`}>
                {closed}
              </span>
            )}
          </NavLink>
        ))}
      </nav>
      <div className="part">{part === "sweeps" ? <Sweeps /> : part === "gates" ? <Gates /> : <Trials />}</div>
    </main>
  );
}
