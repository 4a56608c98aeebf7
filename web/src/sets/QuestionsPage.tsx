// Everything about questions as a whole: their sets, what could be asked, what is never asked about, and judging.
import { NavLink, useParams } from "react-router";
import { Coverage } from "../coverage/Coverage";
import { Judging } from "../judging/Judging";
import { Suggested } from "../suggested/Suggested";
import { Sets } from "./Sets";

const PARTS = [
  ["sets", "Sets"],
  ["suggested", "Suggested"],
  ["coverage", "Coverage"],
  ["judging", "Judging"],
] as const;

export function QuestionsPage() {
  const { part = "sets" } = useParams();
  return (
    <main className="panel questions-page with-parts" aria-label="Questions" data-keys="own">
      <nav className="parts" aria-label="About questions">
        {PARTS.map(([name, title]) => (
          <NavLink key={name} to={`/questions/${name}`}>
            {title}
          </NavLink>
        ))}
      </nav>
      <div className="part">
        {part === "suggested" ? (
          <Suggested />
        ) : part === "coverage" ? (
          <Coverage />
        ) : part === "judging" ? (
          <Judging />
        ) : (
          <Sets />
        )}
      </div>
    </main>
  );
}
