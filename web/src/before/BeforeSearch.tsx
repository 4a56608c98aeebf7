// Before the search: what a question was searched by, and what to say beside it for this once.
import { useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import type { Asked, Schemas } from "../api/client";
import { useChangeQuestion } from "../labels/api";
import { useMay } from "../shell/workspace";
import { percent, score } from "../text/numbers";
import { isNothing, plainWords, typed, useBeside, useSay } from "./beside";

type Wording = Schemas["Wording"];

export function BeforeSearch({ asked }: { asked: Asked }) {
  const beside = useBeside();
  const [open, setOpen] = useState(!isNothing(beside));
  return (
    <section className="before" aria-label="Before the search">
      <button className="fold" aria-expanded={open} onClick={() => setOpen(!open)}>
        <span aria-hidden>{open ? "▾" : "▸"}</span> {told(asked, beside.picture !== null)}
      </button>
      {open && <Open asked={asked} />}
    </section>
  );
}

/** What happened before the search, in a few words. */
function told(asked: Asked, picture: boolean): string {
  const before = asked.trace.asked;
  const [own, ...others] = before?.wordings ?? [];
  const searched = others.filter((wording) => !wording.dropped).length;
  const dropped = others.length - searched;
  if (picture && !asked.trace.question) return "Searched by the picture alone";
  return [
    own?.words ? `Searched by ${Object.keys(own.words).length} terms` : "Searched by all of its words",
    picture && "and by the picture",
    searched > 0 && `in ${searched + 1} wordings`,
    dropped > 0 && `${dropped} dropped`,
    before?.conditions && `only where ${before.conditions}`,
  ]
    .filter(Boolean)
    .join(", ");
}

function Open({ asked }: { asked: Asked }) {
  const beside = useBeside();
  const say = useSay();
  return (
    <div className="open">
      <Terms asked={asked} />
      <Only key={beside.only} asked={asked} />
      <Wordings asked={asked} />
      {beside.without.length > 0 && <Without />}
      {!isNothing(beside) && (
        <Button
          size="sm"
          variant="outline-secondary"
          onClick={() => say({ only: "", words: "", wordings: [], without: [] })}
        >
          As the recipe says
        </Button>
      )}
    </div>
  );
}

/** What branches of terms search by: a click takes a term out, typing adds one. */
function Terms({ asked }: { asked: Asked }) {
  const say = useSay();
  const [text, setText] = useState("");
  const own = asked.trace.asked?.wordings[0]?.words;
  const words = own ?? plainWords(asked.trace.question);
  return (
    <div className="line-of">
      <span className="what">Search terms</span>
      <span className="chips">
        {Object.entries(words).map(([word, weight]) => (
          <button
            key={word}
            className="chip"
            title={`${word}: weight ${score(weight)}; a click searches without it`}
            onClick={() =>
              say({ words: typed(Object.fromEntries(Object.entries(words).filter(([one]) => one !== word))) })
            }
          >
            {word}
            {weight !== 1 && <span className="soft num"> {score(weight)}</span>} <span aria-hidden>×</span>
          </button>
        ))}
        <Form.Control
          size="sm"
          className="add"
          aria-label="Add a search term"
          placeholder="add a term"
          value={text}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => {
            if (event.key !== "Enter" || !text.trim()) return;
            say({ words: [typed(words), text.trim()].filter(Boolean).join(", ") });
            setText("");
          }}
        />
      </span>
    </div>
  );
}

/** Terms that are left out where a branch would add them: a click lets one in again. */
function Without() {
  const { without } = useBeside();
  const say = useSay();
  return (
    <div className="line-of">
      <span className="what">Not added</span>
      <span className="chips">
        {without.map((term) => (
          <button
            key={term}
            className="chip"
            title={`a click adds ${term} again`}
            onClick={() => say({ without: without.filter((one) => one !== term) })}
          >
            <s>{term}</s> <span aria-hidden>+</span>
          </button>
        ))}
      </span>
    </div>
  );
}

/** Conditions on what may be found: those that belong to the question, and those of this once. */
function Only({ asked }: { asked: Asked }) {
  const beside = useBeside();
  const say = useSay();
  const mayEdit = useMay("editor");
  const change = useChangeQuestion();
  const allowed = asked.trace.asked?.allowed ?? null;
  const question = asked.question;
  const keep = (only: string) =>
    question &&
    change.mutate({ question: question.id, change: { only } }, { onSuccess: () => say({ only: "" }) });
  const [text, setText] = useState(beside.only);
  return (
    <div className="line-of">
      <label className="what" htmlFor="only-where">
        Only where
      </label>
      <Form.Control
        id="only-where"
        size="sm"
        placeholder="document is handbook/*, edition from 5, section has wind"
        title="A field, one of is, is not, has, has not, from, to, and a value; more between commas"
        value={text}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && say({ only: text })}
        onBlur={() => text !== beside.only && say({ only: text })}
      />
      {question?.only && (
        <span className="chips">
          <button
            className="chip"
            disabled={!mayEdit || change.isPending}
            title="Belongs to the question and holds in trials; a click takes it away"
            onClick={() => keep("")}
          >
            {question.only} <span aria-hidden>×</span>
          </button>
        </span>
      )}
      {mayEdit && question && beside.only && (
        <Button
          size="sm"
          variant="outline-secondary"
          className="text-nowrap"
          disabled={change.isPending}
          onClick={() => keep([question.only, beside.only].filter(Boolean).join(", "))}
        >
          Keep with the question
        </Button>
      )}
      {change.error && <span className="lost small-text">{change.error.message}</span>}
      {allowed !== null && (
        <span className="soft small-text num text-nowrap">
          {allowed.toLocaleString()} {allowed === 1 ? "chunk" : "chunks"} may be found
        </span>
      )}
    </div>
  );
}

/** The question in other words: what each found that no other had. */
function Wordings({ asked }: { asked: Asked }) {
  const beside = useBeside();
  const say = useSay();
  const [text, setText] = useState("");
  const [, ...others] = asked.trace.asked?.wordings ?? [];
  return (
    <>
      <div className="line-of">
        <label className="what" htmlFor="other-wording">
          In other words
        </label>
        <Form.Control
          id="other-wording"
          size="sm"
          placeholder="the question said otherwise; Enter searches by it too"
          value={text}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => {
            if (event.key !== "Enter" || !text.trim()) return;
            say({ wordings: [...beside.wordings, text.trim()] });
            setText("");
          }}
        />
      </div>
      {others.length > 0 && (
        <Table size="sm" className="wordings small-text num">
          <thead>
            <tr>
              <th>wording</th>
              <th>from</th>
              <th title="of its vector to the question's, to 1">cosine</th>
              <th title="share of the question's terms">terms kept</th>
              <th title="hits that no wording above found, of all its hits">new hits</th>
            </tr>
          </thead>
          <tbody>
            {others.map((wording) => (
              <Row key={wording.text} wording={wording} />
            ))}
          </tbody>
        </Table>
      )}
    </>
  );
}

function Row({ wording }: { wording: Wording }) {
  return (
    <tr className={wording.dropped ? "soft" : ""}>
      <td title={wording.words ? typed(wording.words) : undefined}>{wording.text}</td>
      <td>{wording.source}</td>
      <td>{wording.cosine === null ? "" : score(wording.cosine)}</td>
      <td>{percent(wording.kept)}</td>
      <td>
        {wording.dropped ? (
          <span className="lost">dropped: {wording.dropped}</span>
        ) : (
          Object.entries(wording.found)
            .map(([branch, hits]) => `${branch} ${wording.new[branch] ?? 0} of ${hits}`)
            .join(", ")
        )}
      </td>
    </tr>
  );
}
