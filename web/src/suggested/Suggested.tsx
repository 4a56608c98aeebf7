// Questions that documents seem to answer: accepted, reworded or refused, one key each.
import { useEffect, useRef, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { useFamily } from "../api/catalogue";
import { useQuestionSets } from "../questions/sets";
import { Empty, Shown } from "../shell/states";
import { useMay } from "../shell/workspace";
import { useDecide, useOpenAgain, useSuggestions, type Suggestion } from "./api";
import { keysElsewhere } from "../shell/keysElsewhere";

type State = "open" | "taken" | "refused";
interface Card {
  one: Suggestion;
  state: State;
  words: string;
}

export function Suggested() {
  const suggestions = useSuggestions();
  return (
    <Shown query={suggestions} what="Reading the documents">
      {(found) =>
        found.length ? (
          <Cards key={found[0]!.text + found.length} found={found} more={() => void suggestions.refetch()} />
        ) : (
          <Empty title="Nothing to suggest">
            Suggestions are read off headings, definitions, rows of tables, codes and conditions of the
            documents (in English). All that were found have been decided on.
          </Empty>
        )
      }
    </Shown>
  );
}

function Cards({ found, more }: { found: Suggestion[]; more: () => void }) {
  const [cards, setCards] = useState<Card[]>(() =>
    found.map((one) => ({ one, state: "open", words: one.text })),
  );
  const [at, setAt] = useState(0);
  const [history, setHistory] = useState<number[]>([]);
  const [rewording, setRewording] = useState(false);
  const sets = useQuestionSets();
  const [set, setSet] = useState<number | undefined>(undefined);
  const rules = useFamily("suggestions").kinds;
  const decide = useDecide();
  const again = useOpenAgain();
  const mayEdit = useMay("editor");
  const list = useRef<HTMLDivElement>(null);
  const open = cards.filter(({ state }) => state === "open").length;
  const busy = decide.isPending || again.isPending;

  const put = (place: number, change: Partial<Card>) =>
    setCards((before) => before.map((card, index) => (index === place ? { ...card, ...change } : card)));
  const settle = (place: number, words: string | null) => {
    const card = cards[place]!;
    if (card.state !== "open" || busy) return;
    setRewording(false);
    decide.mutate(
      { one: card.one, words, set },
      {
        onSuccess: () => {
          put(place, { state: words === null ? "refused" : "taken", words: words ?? card.words });
          setHistory((before) => [...before, place]);
          const next = cards.findIndex((other, index) => index > place && other.state === "open");
          if (next >= 0) setAt(next);
        },
      },
    );
  };
  const undo = () => {
    const last = history[history.length - 1];
    if (last === undefined || busy) return;
    again.mutate(cards[last]!.one, {
      onSuccess: () => {
        put(last, { state: "open" });
        setHistory((before) => before.slice(0, -1));
        setAt(last);
      },
    });
  };

  useEffect(() => {
    function pressed(event: KeyboardEvent) {
      if (!mayEdit || keysElsewhere(event)) return;
      if (event.key === "a") settle(at, cards[at]!.words);
      else if (event.key === "x") settle(at, null);
      else if (event.key === "w" && cards[at]?.state === "open") setRewording(true);
      else if (event.key === "u") undo();
      else if (event.key === "j" || event.key === "ArrowDown") setAt(Math.min(at + 1, cards.length - 1));
      else if (event.key === "k" || event.key === "ArrowUp") setAt(Math.max(at - 1, 0));
      else if (event.key === "Enter" && open === 0) more();
      else return;
      event.preventDefault();
    }
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  });
  useEffect(() => {
    list.current?.querySelector("[aria-current]")?.scrollIntoView({ block: "nearest" });
  }, [at]);

  const problem = decide.error ?? again.error;
  const titles = new Map(rules.map((rule) => [rule.name, rule.title]));
  return (
    <div className="suggested" ref={list}>
      <div className="d-flex align-items-center gap-3 mb-1">
        <h2 className="text-nowrap">Suggested questions</h2>
        <span className="soft small-text">
          Read off documents that are asked about least. None counts before somebody accepts it.
        </span>
        <label className="ms-auto small-text text-nowrap">
          into{" "}
          <select
            className="form-select form-select-sm d-inline-block w-auto"
            aria-label="Set that accepted ones go into"
            value={set ?? sets.data?.[0]?.id ?? ""}
            onChange={(event) => setSet(Number(event.target.value))}
          >
            {sets.data?.map((one) => (
              <option key={one.id} value={one.id}>
                {one.name}
              </option>
            ))}
          </select>
        </label>
      </div>
      <div className="keys small-text soft">
        {mayEdit ? (
          <>
            <kbd>a</kbd> accept <kbd>w</kbd> reword <kbd>x</kbd> refuse <kbd>u</kbd> take back <kbd>j</kbd>
            <kbd>k</kbd> move
          </>
        ) : (
          "Editors decide on them."
        )}
        <span className="ms-auto num" role="status">
          {problem ? (
            <span className="lost">{problem.message}</span>
          ) : (
            `${cards.filter(({ state }) => state === "taken").length} accepted, ${open} open`
          )}
        </span>
      </div>
      {cards.map(({ one, state, words }, place) => (
        <article
          key={`${one.document}-${one.text}`}
          className={`suggestion ${state}`}
          aria-current={place === at ? "true" : undefined}
          onClick={() => setAt(place)}
        >
          <div>
            {rewording && place === at ? (
              <Form
                className="d-flex gap-2"
                onSubmit={(event) => {
                  event.preventDefault();
                  settle(place, words);
                }}
              >
                <Form.Control
                  size="sm"
                  autoFocus
                  maxLength={2000}
                  aria-label="In other words"
                  value={words}
                  onChange={(event) => put(place, { words: event.target.value })}
                  onKeyDown={(event) => {
                    if (event.key === "Escape") setRewording(false);
                  }}
                />
                <Button size="sm" type="submit" disabled={!words.trim() || busy} className="text-nowrap">
                  Accept so
                </Button>
              </Form>
            ) : (
              <strong>{words}</strong>
            )}
            <p className="serif">{one.answer}</p>
            <span className="small-text soft">
              {one.title}, {one.asked ? `${one.asked} questions so far` : "nobody asks about it yet"};{" "}
              {titles.get(one.rule) ?? one.rule}
            </span>
          </div>
          <div className="buttons">
            {state === "open" ? (
              mayEdit && (
                <>
                  <Button size="sm" disabled={busy} onClick={() => settle(place, words)}>
                    Accept
                  </Button>
                  <Button
                    size="sm"
                    variant="outline-primary"
                    onClick={() => {
                      setAt(place);
                      setRewording(true);
                    }}
                  >
                    Reword
                  </Button>
                  <Button
                    size="sm"
                    variant="outline-primary"
                    disabled={busy}
                    onClick={() => settle(place, null)}
                  >
                    Refuse
                  </Button>
                </>
              )
            ) : (
              <span className="small-text">{state === "taken" ? "accepted" : "refused"}</span>
            )}
          </div>
        </article>
      ))}
      {open === 0 && (
        <Button size="sm" className="mt-2" onClick={more}>
          Twelve more <kbd>Enter</kbd>
        </Button>
      )}
    </div>
  );
}
