// Ask as an assistant's user would: answers with their citations, and what one thinks of them.
import { useEffect, useRef, useState, type FormEvent } from "react";
import { Button } from "react-bootstrap";
import { Link } from "react-router";
import { useWorkspace } from "../shell/workspace";
import { milliseconds } from "../text/numbers";
import { converse, useSay, type Exchange, type Passage, type Published } from "./api";

export function Try({ published }: { published: Published }) {
  const workspace = useWorkspace();
  const [exchanges, setExchanges] = useState<Exchange[]>([]);
  const [question, setQuestion] = useState("");
  const end = useRef<HTMLDivElement>(null);
  const busy = exchanges.some(({ ended }) => ended === null);
  const count = exchanges.length;
  useEffect(() => {
    end.current?.scrollIntoView({ block: "nearest" });
  }, [count]);
  const send = (event: FormEvent) => {
    event.preventDefault();
    const text = question.trim();
    if (!text || busy) return;
    setQuestion("");
    const place = exchanges.length;
    void converse(workspace, published.id, text, (exchange) =>
      setExchanges((before) => [...before.slice(0, place), exchange, ...before.slice(place + 1)]),
    );
  };
  return (
    <section className="talk-page" aria-label="Try it">
      <div className="talk" aria-live="polite">
        {exchanges.length === 0 && (
          <p className="soft talk-empty">
            Ask what a user of the assistant would ask. Answers come from this workspace's documents alone,
            each sentence with the passages that it rests on.
          </p>
        )}
        {exchanges.map((exchange, place) => (
          <Said key={place} exchange={exchange} published={published} />
        ))}
        <div ref={end} />
      </div>
      <form className="talk-ask" onSubmit={send}>
        <input
          className="form-control"
          value={question}
          maxLength={2000}
          placeholder="Ask the assistant"
          aria-label="Ask the assistant"
          autoComplete="off"
          onChange={(event) => setQuestion(event.target.value)}
        />
        <Button type="submit" disabled={busy || !question.trim()}>
          Ask
        </Button>
      </form>
    </section>
  );
}

function Said({ exchange, published }: { exchange: Exchange; published: Published }) {
  const { question, found, sentences, ended, problem, seconds } = exchange;
  const [open, setOpen] = useState<number | null>(null);
  const passages = found?.passages ?? [];
  const cited = new Set(sentences.flatMap(({ cites }) => cites));
  const shown = sentences.length ? passages.filter(({ number }) => cited.has(number)) : passages;
  return (
    <article className="exchange">
      <p className="asked-by">{question}</p>
      <div className="answered-with">
        {problem ? (
          <p className="lost mb-1" role="alert">
            {problem}
          </p>
        ) : sentences.length ? (
          <p className="said serif mb-2">
            {sentences.map(({ text, cites }, place) => (
              <span key={place}>
                {text}
                {cites.map((number) => (
                  <button
                    key={number}
                    className="cite num"
                    aria-label={`Passage ${number}`}
                    aria-expanded={open === number}
                    onClick={() => setOpen(open === number ? null : number)}
                  >
                    {number}
                  </button>
                ))}{" "}
              </span>
            ))}
          </p>
        ) : ended === null ? (
          <p className="soft mb-1">{found ? "Reading the passages" : "Looking for passages"} …</p>
        ) : (
          <p className="mb-1">
            <strong>{passages.length ? "No answer, but passages." : "Nothing found."}</strong>{" "}
            <span className="soft">{ended}</span>
          </p>
        )}
        {found && found.absent.length > 0 && (
          <p className="lost small-text mb-1" role="status">
            Not all of the index answered: {found.absent.join("; ")}.
          </p>
        )}
        {found && shown.length > 0 && (
          <ol className="cited small-text">
            {shown.map((passage) => (
              <Cited
                key={passage.number}
                passage={passage}
                open={open === passage.number}
                toggle={() => setOpen(open === passage.number ? null : passage.number)}
              />
            ))}
          </ol>
        )}
        {found && ended !== null && <Opinion exchange={exchange} published={published} seconds={seconds} />}
      </div>
    </article>
  );
}

/** A citation: where it stands, its words on a click, and the way into the reader. */
function Cited({ passage, open, toggle }: { passage: Passage; open: boolean; toggle: () => void }) {
  const { number, title, section, page, document, start, end, text } = passage;
  const last = section[section.length - 1];
  return (
    <li value={number}>
      <button className="linked" aria-expanded={open} onClick={toggle}>
        {last && last !== title ? `${title} › ${last}` : title}
        {page > 0 && `, p. ${page}`}
      </button>{" "}
      <Link to={`/line/documents?doc=${document}&from=${start}&to=${end}`}>read it there</Link>
      {open && <blockquote className="serif">{text}</blockquote>}
    </li>
  );
}

function Opinion({
  exchange,
  published,
  seconds,
}: {
  exchange: Exchange;
  published: Published;
  seconds: number | null;
}) {
  const say = useSay(published.id);
  const [thumb, setThumb] = useState(0);
  const [wrong, setWrong] = useState<string | null>(null);
  const [sent, setSent] = useState(false);
  const { found, question } = exchange;
  const request = found?.request ?? "";
  const give = (value: number) => {
    setThumb(value);
    say.mutate({ request, thumb: value as -1 | 0 | 1, question });
  };
  return (
    <div className="opinion small-text">
      {(
        [
          [1, "Good", "▲"],
          [-1, "Not good", "▼"],
        ] as const
      ).map(([value, title, sign]) => (
        <button
          key={value}
          className={`thumb ${thumb === value ? "given" : ""}`}
          aria-pressed={thumb === value}
          onClick={() => give(thumb === value ? 0 : value)}
        >
          <span aria-hidden="true">{sign}</span> {title}
        </button>
      ))}
      {wrong === null && !sent && (
        <button className="thumb" onClick={() => setWrong("")}>
          This is wrong
        </button>
      )}
      {wrong !== null && (
        <form
          className="d-flex gap-1"
          onSubmit={(event) => {
            event.preventDefault();
            say.mutate(
              { request, wrong: wrong.trim() || "wrong", question },
              { onSuccess: () => (setSent(true), setWrong(null)) },
            );
          }}
        >
          <input
            autoFocus
            className="form-control form-control-sm"
            value={wrong}
            maxLength={500}
            aria-label="What is wrong"
            placeholder="what is wrong, or what would be right"
            onChange={(event) => setWrong(event.target.value)}
          />
          <Button size="sm" type="submit">
            Say so
          </Button>
        </form>
      )}
      {(sent || thumb < 0) && !say.isPending && !say.error && (
        <Link to="/questions" className="gain">
          waits for a label under “From use”
        </Link>
      )}
      {say.error && <span className="lost">{say.error.message}</span>}
      <span className="soft num ms-auto">
        {found && `${found.recipe.name} v${found.recipe.version}`}
        {seconds !== null && `, ${milliseconds(seconds)}`}
      </span>
    </div>
  );
}
