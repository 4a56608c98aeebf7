// A scorer on its own: a question and passages, read together beside vectors made apart, and what a score rests on.
import { useState } from "react";
import { Form } from "react-bootstrap";
import { useScorers, useTried, type TriedRow } from "./api";
import { useLine } from "../../api/queries";
import { Shown } from "../../shell/states";
import { score } from "../../text/numbers";
import { RestsOn } from "./RestsOn";
import { usesOf } from "../../recipe/scorers";
import { passagesOf } from "./settings";

const EXAMPLE = {
  question: "At what wind speed does the gondola stop?",
  passages: `Many guests ask: at what wind speed does the gondola stop? We are glad about every question.

The gondola stops when the ten-minute mean reaches 18 metres a second at any tower, and it reopens after 20 minutes below 14.

The wind gauges of the gondola line are calibrated each spring by the workshop at the valley station.

In strong wind passengers may walk down by the signposted path; it takes two hours.`,
};

/** A question and its shortlist, where one is pinned. */
export interface Given {
  question: string;
  passages: string[];
  places: string[];
}

export function TryScorer({ given }: { given?: Given }) {
  const scorers = useScorers();
  const line = useLine();
  const rerank = line.data?.recipe.body.rerank;
  const joint = (scorers.data ?? []).filter((row) => row.alone);
  const uses = usesOf(rerank).map((use) => use.scorer);
  const own = joint.find((row) => uses.includes(row.name)) ?? joint[0];
  const [named, setNamed] = useState<string | null>(null);
  const [question, setQuestion] = useState(given?.question ?? EXAMPLE.question);
  const [text, setText] = useState(EXAMPLE.passages);
  const [chosen, setChosen] = useState(0);
  const scorer = named ?? own?.name ?? "";
  const passages = given ? given.passages : passagesOf(text).slice(0, 100);
  const tried = useTried(scorer, question, passages);
  return (
    <div className="try">
      <div>
        <div className="d-flex gap-2 align-items-center mb-2">
          <Form.Control
            size="sm"
            aria-label="Question to try"
            value={question}
            maxLength={2000}
            onChange={(event) => setQuestion(event.target.value)}
          />
          <Form.Select
            size="sm"
            aria-label="Scorer"
            style={{ width: "15rem" }}
            value={scorer}
            onChange={(event) => setNamed(event.target.value)}
          >
            {joint.map((row) => (
              <option key={row.name} value={row.name}>
                {row.title}
              </option>
            ))}
          </Form.Select>
        </div>
        {!given && (
          <Form.Control
            as="textarea"
            size="sm"
            rows={6}
            aria-label="Passages to try"
            className="passage-box mb-2"
            value={text}
            onChange={(event) => {
              setText(event.target.value);
              setChosen(0);
            }}
          />
        )}
        <div className="small-text soft mb-1">
          {given
            ? `The shortlist of ${passages.length} as fusion ordered it.`
            : "A blank line stands between two passages."}{" "}
          Apart: cosine of vectors made without seeing each other. Together: both read as one.
        </div>
        <Shown query={tried} what="Scoring">
          {(data) => (
            <Rows
              rows={data.rows}
              measure={data.measure}
              name={(position) => given?.places[position - 1] ?? passages[position - 1] ?? ""}
              chosen={Math.min(chosen, data.rows.length - 1)}
              choose={setChosen}
            />
          )}
        </Shown>
      </div>
      <RestsOn
        scorer={scorer}
        question={question}
        passage={passages[Math.min(chosen, passages.length - 1)] ?? null}
        window={tried.data?.rows[chosen]?.window ?? null}
      />
    </div>
  );
}

function Rows({
  rows,
  measure,
  name,
  chosen,
  choose,
}: {
  rows: TriedRow[];
  measure: string;
  name: (position: number) => string;
  chosen: number;
  choose: (row: number) => void;
}) {
  const sorted = [...rows].sort((a, b) => a.rank - b.rank);
  const calibrated = rows.some((row) => row.probability !== null);
  return (
    <table className="table table-sm small-text num tried">
      <thead>
        <tr>
          <th className="text-end">Rank</th>
          <th className="text-end">was</th>
          <th className="text-end">apart</th>
          <th>Passage</th>
          <th className="text-end" title="cosine, -1 to 1; larger is better">
            Cosine
          </th>
          <th className="text-end" title={`${measure}; larger is better`}>
            Joint
          </th>
          {calibrated && (
            <th className="text-end" title="probability that the passage answers">
              Answers
            </th>
          )}
        </tr>
      </thead>
      <tbody>
        {sorted.map((row) => {
          const by = row.cosine_rank - row.rank;
          return (
            <tr
              key={row.position}
              aria-selected={row.position - 1 === chosen}
              tabIndex={0}
              onClick={() => choose(row.position - 1)}
              onKeyDown={(event) => event.key === "Enter" && choose(row.position - 1)}
            >
              <td className="text-end">{row.rank}</td>
              <td className="text-end soft">{row.position}</td>
              <td className={`text-end ${by > 0 ? "gain" : by < 0 ? "lost" : "soft"}`}>
                {row.cosine_rank}
                {by !== 0 && (by > 0 ? " ▲" : " ▼")}
              </td>
              <td className="name">{name(row.position)}</td>
              <td className="text-end">{score(row.cosine)}</td>
              <td className="text-end">{score(row.score)}</td>
              {calibrated && <td className="text-end">{score(row.probability ?? 0)}</td>}
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
