// Questions of assistants: whether their words are kept, and those that speak most for a label.
import { useState } from "react";
import { Button } from "react-bootstrap";
import { Link } from "react-router";
import { Shown } from "../shell/states";
import { useMay } from "../shell/workspace";
import { counted, percent, score } from "../text/numbers";
import { useKeep, useStrangers, useTake, useToLabel, type Published, type ToLabel } from "./api";

export function FromUse({ published }: { published: Published }) {
  const offered = useToLabel(published.id);
  return (
    <section className="from-use" aria-label="Questions from use">
      <div>
        <Keep published={published} />
        {published.keep_days > 0 && <Strangers published={published} />}
      </div>
      <Shown query={offered} what="Reading questions from use">
        {(rows) => <Offered rows={rows} published={published} />}
      </Shown>
    </section>
  );
}

function Keep({ published }: { published: Published }) {
  const keep = useKeep(published.id);
  const own = useMay("owner");
  const [days, setDays] = useState(String(published.keep_days));
  const [rules, setRules] = useState(
    (published.redact.length ? published.redact : ["mail addresses", "long numbers", "web addresses"]).join(
      "\n",
    ),
  );
  return (
    <form
      className="keep small-text"
      aria-label="What is kept"
      onSubmit={(event) => {
        event.preventDefault();
        keep.mutate({ keep_days: Number(days) || 0, redact: rules.split("\n") });
      }}
    >
      <h3>What is kept of questions</h3>
      <p className="soft mb-2">
        {published.keep_days
          ? `Their words, for ${counted(published.keep_days, "day")}, without what the rules take out.`
          : "Figures alone: no word of a question is written down."}
      </p>
      {own && (
        <>
          <label>
            Days; 0 keeps no words{" "}
            <input
              className="form-control form-control-sm num"
              inputMode="numeric"
              value={days}
              onChange={(event) => setDays(event.target.value)}
            />
          </label>
          <label>
            Taken out before: a rule a line{" "}
            <textarea
              className="form-control form-control-sm mono"
              rows={4}
              value={rules}
              onChange={(event) => setRules(event.target.value)}
            />
          </label>
          <Button size="sm" type="submit" disabled={keep.isPending}>
            Keep it so
          </Button>
          {keep.error && (
            <p className="lost mb-0" role="alert">
              {keep.error.message}
            </p>
          )}
        </>
      )}
    </form>
  );
}

/** How far live questions are from those that figures are made of. */
function Strangers({ published }: { published: Published }) {
  const [wanted, setWanted] = useState(false);
  const found = useStrangers(published.id, wanted);
  const { data } = found;
  return (
    <section className="strangers small-text" aria-label="Beside the labelled questions">
      <h3>Beside the labelled questions</h3>
      {!wanted && (
        <>
          <p className="soft mb-2">Are these the questions that the figures are made of?</p>
          <Button size="sm" variant="outline-primary" onClick={() => setWanted(true)}>
            Compare
          </Button>
        </>
      )}
      {wanted && found.isPending && <p className="soft">Comparing …</p>}
      {found.error && <p className="lost">{found.error.message}</p>}
      {data && (
        <>
          <p className="num mb-2">
            <b className={data.p < 0.05 ? "lost" : "gain"}>{percent(data.strangers)}</b> of {data.compared}{" "}
            are farther from all labelled ones than 95 of 100 labelled ones are from each other (5 % if they
            are alike
            {data.p < 0.05
              ? `; p ${data.p < 0.001 ? "below .001" : score(data.p)}`
              : "; no difference to see"}
            ). Nearest cosine, median: {score(data.live)}, among the {data.beside} labelled{" "}
            {score(data.labelled)}.
          </p>
          <h4>Farthest</h4>
          <ol className="farthest num">
            {data.farthest.slice(0, 5).map(({ question, nearest }) => (
              <li key={question}>
                {question} <span className="soft">{score(nearest)}</span>
              </li>
            ))}
          </ol>
        </>
      )}
    </section>
  );
}

function Offered({ rows, published }: { rows: ToLabel[]; published: Published }) {
  const take = useTake(published.id);
  const edit = useMay("editor");
  const [chosen, setChosen] = useState<string[]>([]);
  if (!rows.length)
    return (
      <div className="soft">
        <h3>To be labelled</h3>
        {published.keep_days
          ? "No question waits here. "
          : "Questions appear here once their words are kept; those that somebody held to be wrong become questions all the same. "}
        <Link to="/questions">Question sets</Link>
      </div>
    );
  return (
    <div>
      <div className="d-flex align-items-center gap-3 mb-1">
        <h3 className="mb-0">To be labelled</h3>
        <span className="small-text soft">those first that speak most for a label</span>
        {edit && (
          <Button
            size="sm"
            className="ms-auto"
            disabled={!chosen.length || take.isPending}
            onClick={() => take.mutate(chosen, { onSuccess: () => setChosen([]) })}
          >
            Put {chosen.length || ""} under “From use”
          </Button>
        )}
      </div>
      <ul className="offered">
        {rows.map((row) => (
          <li key={row.request}>
            <label>
              <input
                type="checkbox"
                disabled={!edit}
                checked={chosen.includes(row.request)}
                onChange={(event) =>
                  setChosen(
                    event.target.checked
                      ? [...chosen, row.request]
                      : chosen.filter((one) => one !== row.request),
                  )
                }
              />
              <span>
                {row.question}
                <span className="why small-text num">
                  <b className={row.why === "low score" ? "soft" : "lost"}>{row.why}</b>
                  {row.wrong && row.wrong !== "wrong" && `: ${row.wrong}`}
                  {row.answered !== null && `, answered with probability ${score(row.answered)}`}
                  {row.answered === null && row.best !== null && `, best score ${score(row.best)}`}
                  <span className="soft">, {new Date(row.at).toLocaleString()}</span>
                </span>
              </span>
            </label>
            <Link className="small-text" to={`/line/fused?ask=${encodeURIComponent(row.question)}`}>
              look at it
            </Link>
          </li>
        ))}
      </ul>
    </div>
  );
}
