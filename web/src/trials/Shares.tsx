// Two recipes by what questions have in common, and how steady each is over wordings.
import { useState } from "react";
import { Segments } from "../shell/Segments";
import { counted, score } from "../text/numbers";
import { signed, type ComparedQuestions } from "./api";

type Kind = ComparedQuestions["shares"][number]["kind"];

const KINDS: [Kind, string][] = [
  ["tag", "tag"],
  ["document", "document"],
  ["length", "length"],
  ["set", "set"],
];
const WIDE = 90;
const SHOWN = 60;

export function Shares({ data }: { data: ComparedQuestions }) {
  const there = KINDS.filter(([kind]) => new Set(of(data, kind).map(({ name }) => name)).size > 1);
  const [picked, setPicked] = useState<Kind>("tag");
  const kind = there.some(([one]) => one === picked) ? picked : (there[0]?.[0] ?? "tag");
  const rows = of(data, kind);
  const most = Math.max(1e-9, ...rows.map(({ before, after }) => Math.abs(after - before)));
  return (
    <>
      <Segments options={there} value={kind} choose={setPicked} />
      <table className="table table-sm small-text num mt-2">
        <thead>
          <tr>
            <th>{kind === "document" ? "Document of the answer" : kind === "tag" ? "Tag" : "Questions"}</th>
            <th className="text-end">count</th>
            <th className="text-end">before</th>
            <th className="text-end">after</th>
            <th>gain</th>
            <th className="text-end" title="Questions on which the second is better, worse">
              + : −
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, SHOWN).map(({ name, questions, before, after, wins, losses }) => {
            const change = after - before;
            const width = (WIDE / 2) * (Math.abs(change) / most);
            return (
              <tr key={name}>
                <td className="shared-name" title={name}>
                  {name}
                </td>
                <td className="text-end">{questions}</td>
                <td className="text-end">{score(before)}</td>
                <td className="text-end">{score(after)}</td>
                <td>
                  <svg width={WIDE} height="14" role="img" aria-label={`gain ${signed(change)}`}>
                    <line className="zero" x1={WIDE / 2} x2={WIDE / 2} y1="0" y2="14" />
                    <rect
                      className={change < 0 ? "worse" : "better"}
                      x={change < 0 ? WIDE / 2 - width : WIDE / 2}
                      width={width}
                      y="2"
                      height="10"
                    />
                  </svg>
                </td>
                <td className="text-end">
                  {wins} : {losses}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <p className="small-text soft">
        The largest change times questions comes first. Few questions of a kind say little: a kind is no test
        of its own.
        {rows.length > SHOWN && ` The first ${SHOWN} of ${rows.length} are shown.`}
      </p>
    </>
  );
}

const of = (data: ComparedQuestions, kind: Kind) => data.shares.filter((share) => share.kind === kind);

export function Wordings({ data }: { data: ComparedQuestions }) {
  const found = data.steadiness;
  if (!found)
    return (
      <p className="soft small-text">
        No question here stands in several wordings. Questions of one group are the same in other words; a
        file of questions can name the group of each.
      </p>
    );
  return (
    <>
      <p className="small-text num">
        {counted(found.groups, "question")} in several wordings. Ranks of the same answer are apart by{" "}
        <b>{score(found.before)}</b> before and <b>{score(found.after)}</b> after (mean difference of
        reciprocal ranks, 0 to 1, smaller is steadier): the second is{" "}
        {found.said === "better" ? "steadier" : found.said === "worse" ? "less steady" : found.said}.
      </p>
      <table className="table table-sm small-text num">
        <thead>
          <tr>
            <th>Wordings that are furthest apart</th>
            <th className="text-end">rank before</th>
            <th className="text-end">after</th>
          </tr>
        </thead>
        {found.worst.map(({ texts, before, after }, group) => (
          <tbody key={group}>
            {texts.map((text, row) => (
              <tr key={`${group} ${row}`}>
                <td className="shared-name">{text}</td>
                <td className="text-end">{before[row] ?? "–"}</td>
                <td className="text-end">{after[row] ?? "–"}</td>
              </tr>
            ))}
          </tbody>
        ))}
      </table>
    </>
  );
}
