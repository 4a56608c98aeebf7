// Which version answers: another one takes over once it is open, the one before comes back, a second one runs beside.
import { useState } from "react";
import { Button } from "react-bootstrap";
import { useMay } from "../shell/workspace";
import { percent } from "../text/numbers";
import { usePutBeside, useRelease, useTakeDown, type Published } from "./api";
import { VersionChoice } from "./VersionChoice";

export function Versions({ published }: { published: Published }) {
  const own = useMay("owner");
  return (
    <section className="served-versions" aria-label="Versions">
      <div>
        {own && <Release published={published} />}
        <h3>What answered here</h3>
        <ol className="releases small-text num">
          {published.releases.map((one, place) => (
            <li key={one.id} className={place === 0 ? "now" : ""}>
              <strong>
                {one.recipe.name} v{one.recipe.version}
              </strong>{" "}
              {one.back && "put back, "}
              <span className="soft">
                {new Date(one.at).toLocaleString()}
                {one.by && `, ${one.by}`}
              </span>
            </li>
          ))}
        </ol>
        {own && <TakeDown published={published} />}
      </div>
      <Second published={published} />
    </section>
  );
}

function Release({ published }: { published: Published }) {
  const release = useRelease(published.id);
  const [recipe, setRecipe] = useState<number | null>(null);
  const { before } = published;
  return (
    <div className="release small-text">
      <h3>Put another version to work</h3>
      <p className="soft mb-2">
        Every server process opens it beside the old one first, asks it once, and then lets it answer: nobody
        waits, and no answer is lost or mixed.
      </p>
      <div className="d-flex flex-wrap gap-2 align-items-end">
        <VersionChoice label="Version" value={recipe} choose={setRecipe} without={[published.recipe.id]} />
        <Button
          size="sm"
          disabled={recipe === null || release.isPending}
          onClick={() =>
            recipe !== null && release.mutate({ recipe, back: false }, { onSuccess: () => setRecipe(null) })
          }
        >
          Let it answer
        </Button>
        {before && (
          <Button
            size="sm"
            variant="outline-primary"
            disabled={release.isPending}
            onClick={() => release.mutate({ back: true })}
          >
            Back to {before.name} v{before.version}
          </Button>
        )}
      </div>
      {release.error && (
        <p className="lost mb-0" role="alert">
          {release.error.message}
        </p>
      )}
    </div>
  );
}

const USES: [Published["use"], string][] = [
  ["shadow", "is asked a share of the questions too; its passages are only compared"],
  ["split", "answers a share of the keys; what people say of both is compared"],
];

function Second({ published }: { published: Published }) {
  const put = usePutBeside(published.id);
  const own = useMay("owner");
  const [recipe, setRecipe] = useState<number | null>(published.second?.id ?? null);
  const [use, setUse] = useState<Published["use"]>(published.use || "shadow");
  const [share, setShare] = useState(String(100 * (published.share || 0.5)));
  return (
    <form
      className="second small-text"
      aria-label="A second version"
      onSubmit={(event) => {
        event.preventDefault();
        put.mutate({ recipe, use, share: Number(share) / 100 });
      }}
    >
      <h3>A second version</h3>
      {published.second ? (
        <p className="num mb-2">
          <strong>
            {published.second.name} v{published.second.version}
          </strong>{" "}
          {published.use === "split"
            ? `answers ${percent(published.share)} of the keys`
            : `is asked ${percent(published.share)} of the questions beside it`}
          ; what came of it stands under Watch.
        </p>
      ) : (
        <p className="soft mb-2">None. With one, live questions tell two versions apart.</p>
      )}
      {own && (
        <>
          <VersionChoice label="Version" value={recipe} choose={setRecipe} without={[published.recipe.id]} />
          {USES.map(([name, title]) => (
            <label key={name} className="d-block mt-2">
              <input type="radio" name="use" checked={use === name} onChange={() => setUse(name)} /> {title}
            </label>
          ))}
          <label className="d-block mt-2">
            Share, %{" "}
            <input
              className="form-control form-control-sm num d-inline-block"
              style={{ width: "5rem" }}
              inputMode="decimal"
              value={share}
              onChange={(event) => setShare(event.target.value)}
            />
          </label>
          <div className="d-flex gap-2 mt-2">
            <Button size="sm" type="submit" disabled={recipe === null || put.isPending}>
              {published.second ? "Change" : "Begin"}
            </Button>
            {published.second && (
              <Button
                size="sm"
                variant="outline-primary"
                onClick={() => put.mutate({ recipe: null, use: "", share: 1 })}
              >
                End it
              </Button>
            )}
          </div>
          {put.error && (
            <p className="lost mb-0" role="alert">
              {put.error.message}
            </p>
          )}
        </>
      )}
    </form>
  );
}

/** Taking a name down asks once more: its keys end with it. */
function TakeDown({ published }: { published: Published }) {
  const down = useTakeDown();
  const [sure, setSure] = useState(false);
  if (!sure)
    return (
      <Button size="sm" variant="outline-danger" className="mt-3" onClick={() => setSure(true)}>
        Take it down
      </Button>
    );
  return (
    <p className="small-text mt-3">
      <span className="lost">
        {published.name} and its {published.keys.length} keys end at once, with all figures.
      </span>{" "}
      <Button size="sm" variant="danger" onClick={() => down.mutate(published.id)}>
        Take it down
      </Button>{" "}
      <Button size="sm" variant="outline-primary" onClick={() => setSure(false)}>
        Keep it
      </Button>
    </p>
  );
}
