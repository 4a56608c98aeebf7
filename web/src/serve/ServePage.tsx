// What is served: names that assistants ask, watched from outside, tried as a user would, versions, keys, questions.
import { useState } from "react";
import { Button } from "react-bootstrap";
import { NavLink, useParams, useSearchParams } from "react-router";
import { Shown } from "../shell/states";
import { useMay } from "../shell/workspace";
import { usePublished, type Published } from "./api";
import { FromUse } from "./FromUse";
import { Keys } from "./Keys";
import { Publish } from "./Publish";
import { Try } from "./Try";
import { Versions } from "./Versions";
import { Watch } from "./Watch";

const PARTS = [
  ["watch", "Watch"],
  ["try", "Try it"],
  ["versions", "Versions"],
  ["keys", "Keys"],
  ["questions", "From use"],
] as const;

export function ServePage() {
  const published = usePublished();
  return (
    <Shown query={published} what="Reading what is served">
      {(list) => <Chosen list={list} />}
    </Shown>
  );
}

function Chosen({ list }: { list: Published[] }) {
  const { part = "watch" } = useParams();
  const [parameters, setParameters] = useSearchParams();
  const [making, setMaking] = useState(false);
  const own = useMay("owner");
  const chosen = list.find(({ name }) => name === parameters.get("name")) ?? list[0];
  if (!chosen || making)
    return (
      <main className="panel serve" aria-label="Serve">
        <Publish
          close={chosen ? () => setMaking(false) : undefined}
          made={(name) => {
            setMaking(false);
            setParameters({ name });
          }}
        />
      </main>
    );
  return (
    <main className="panel serve with-parts" aria-label="Serve">
      <nav className="parts" aria-label="About what is served">
        {PARTS.map(([name, title]) => (
          <NavLink
            key={name}
            to={{
              pathname: name === "watch" ? "/serving" : `/serving/${name}`,
              search: `name=${chosen.name}`,
            }}
            className={part === name ? "active" : ""}
            end={name === "watch"}
          >
            {title}
          </NavLink>
        ))}
        {own && (
          <Button size="sm" variant="outline-primary" className="mt-auto" onClick={() => setMaking(true)}>
            Publish more
          </Button>
        )}
      </nav>
      <div className="part">
        <Head list={list} chosen={chosen} choose={(name) => setParameters({ name })} />
        {part === "try" ? (
          <Try key={chosen.id} published={chosen} />
        ) : part === "versions" ? (
          <Versions published={chosen} />
        ) : part === "keys" ? (
          <Keys key={chosen.id} published={chosen} />
        ) : part === "questions" ? (
          <FromUse key={chosen.id} published={chosen} />
        ) : (
          <Watch published={chosen} />
        )}
      </div>
    </main>
  );
}

/** Whose page it is, and what answers there now. */
function Head({
  list,
  chosen,
  choose,
}: {
  list: Published[];
  chosen: Published;
  choose: (name: string) => void;
}) {
  const { recipe, opening, processes } = chosen;
  return (
    <header className="served-head">
      {list.length > 1 ? (
        <select
          className="form-select form-select-sm served-name"
          aria-label="Published name"
          value={chosen.name}
          onChange={(event) => choose(event.target.value)}
        >
          {list.map(({ id, name }) => (
            <option key={id}>{name}</option>
          ))}
        </select>
      ) : (
        <h2 className="mono served-name">{chosen.name}</h2>
      )}
      <span>
        <strong>
          {recipe.name} v{recipe.version}
        </strong>{" "}
        {chosen.answers ? "answers" : "hands passages on"}
      </span>
      <span className={`small-text ${opening ? "opening" : "soft"}`} role="status">
        {opening
          ? `${processes - opening} of ${processes} server processes have it open; the others answer with the version before`
          : processes
            ? `open in ${processes} server process${processes === 1 ? "" : "es"}`
            : "opened when it is first asked"}
      </span>
      {chosen.second && (
        <span className="small-text soft">
          {chosen.second.name} v{chosen.second.version}{" "}
          {chosen.use === "split" ? "answers a share of the keys" : "is asked beside it"}
        </span>
      )}
    </header>
  );
}
