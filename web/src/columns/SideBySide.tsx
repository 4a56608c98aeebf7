// One question, any stages and recipes as columns: the same passage on one thread, who found what alone.
import { useState } from "react";
import { useQueries } from "@tanstack/react-query";
import { Button, Form } from "react-bootstrap";
import { client, unwrap, type Asked, type Recipe, type StageTrace } from "../api/client";
import { useLine } from "../api/queries";
import { useRecipes } from "../recipe/api";
import { TITLES } from "../shell/pin";
import { useWorkspace } from "../shell/workspace";
import { chunksByNumber, kindOf, place } from "../stages/shared/trace";
import { held, lineUp } from "./lineUp";

const SHOWN = 10;
const ROW = 46;
const WIDTH = 184;
const GAP = 30;
const HEAD = 30;

interface Column {
  key: string;
  title: string;
  tone: string;
  asked: Asked;
  stage: StageTrace;
}

export function SideBySide({ asked }: { asked: Asked }) {
  const workspace = useWorkspace();
  const line = useLine();
  const recipes = useRecipes();
  const [left, setLeft] = useState<string[]>([]);
  const [others, setOthers] = useState<number[]>([]);
  const found = useQueries({
    queries: others.map((recipe) => ({
      queryKey: ["column", workspace, recipe, asked.question?.id, asked.trace.question],
      queryFn: () =>
        asked.question
          ? unwrap(
              client.GET("/api/workspaces/{workspace}/questions/{question}", {
                params: { path: { workspace, question: asked.question.id }, query: { recipe } },
              }),
            )
          : unwrap(
              client.POST("/api/workspaces/{workspace}/ask", {
                params: { path: { workspace } },
                body: { text: asked.trace.question, recipe },
              }),
            ),
      staleTime: Infinity,
    })),
  });
  const own = asked.trace.stages.map((stage): Column => {
    const kind = kindOf(asked, stage);
    const title = stage.kind === "branch" ? stage.stage : TITLES[kind];
    return { key: stage.stage, title, tone: `var(--${kind})`, asked, stage };
  });
  const named = (recipe: number) => recipes.data?.find((row) => row.id === recipe);
  const fetched = others.flatMap((recipe, at): Column[] => {
    const data = found[at]?.data;
    const stage = data?.trace.stages[data.trace.stages.length - 1];
    const row = named(recipe);
    return data && stage
      ? [{ key: `recipe ${recipe}`, title: nameOf(row), tone: "var(--ink)", asked: data, stage }]
      : [];
  });
  const columns = [...own.filter(({ key }) => !left.includes(key)), ...fetched];
  const failed = others.filter((_, at) => found[at]?.error);
  const rest = (recipes.data ?? []).filter(
    (row) => row.id !== line.data?.recipe.id && !others.includes(row.id),
  );
  return (
    <div className="columns">
      <div className="d-flex gap-2 align-items-baseline flex-wrap mb-2">
        <h3 className="mb-0">Side by side</h3>
        <span className="small-text soft">the first {SHOWN} of each; a thread is one passage</span>
        {left.map((key) => (
          <Button
            key={key}
            size="sm"
            variant="outline-secondary"
            onClick={() => setLeft(left.filter((one) => one !== key))}
          >
            + {own.find((column) => column.key === key)?.title}
          </Button>
        ))}
        <Form.Select
          size="sm"
          style={{ width: "auto" }}
          aria-label="Add a recipe"
          value=""
          onChange={(event) => setOthers([...others, Number(event.target.value)])}
        >
          <option value="">Add what another recipe hands on</option>
          {rest.map((row) => (
            <option key={row.id} value={row.id}>
              {nameOf(row)}
            </option>
          ))}
        </Form.Select>
        {failed.map((recipe) => (
          <span key={recipe} className="small-text lost">
            {nameOf(named(recipe))} is not built for the present documents.
          </span>
        ))}
      </div>
      <Picture
        columns={columns}
        take={(key) =>
          key.startsWith("recipe ")
            ? setOthers(others.filter((recipe) => `recipe ${recipe}` !== key))
            : setLeft([...left, key])
        }
      />
    </div>
  );
}

const nameOf = (row: Recipe | undefined): string => (row ? `${row.name} v${row.version}` : "");

function Picture({ columns, take }: { columns: Column[]; take: (key: string) => void }) {
  const [over, setOver] = useState<number | null>(null);
  const lists = columns.map(({ asked, stage }) => {
    const chunks = chunksByNumber(asked);
    return stage.chunks.slice(0, SHOWN).flatMap((number, row) => {
      const chunk = chunks.get(number);
      return chunk ? [{ chunk, on: stage.kept[row] ?? false }] : [];
    });
  });
  const numbers = lineUp(lists.map((cells) => cells.map(({ chunk }) => chunk)));
  const counts = held(numbers);
  const right = new Set(
    numbers.flatMap((own, at) => own.filter((_, row) => lists[at]![row]!.chunk.relevant)),
  );
  const height = HEAD + SHOWN * ROW;
  const x = (column: number) => column * (WIDTH + GAP);
  const y = (row: number) => HEAD + row * ROW + ROW / 2 - 3;
  return (
    <div className="field" style={{ height, width: x(columns.length) }}>
      <svg width={x(columns.length)} height={height} aria-hidden>
        {numbers.slice(1).flatMap((own, at) =>
          own.flatMap((number, row) => {
            const before = numbers[at]!.indexOf(number);
            if (before < 0) return [];
            const [from, to] = [x(at) + WIDTH, x(at + 1)];
            const middle = (from + to) / 2;
            return [
              <path
                key={`${at} ${number}`}
                className={right.has(number) ? "right" : over === number ? "over" : ""}
                d={`M${from},${y(before)} C${middle},${y(before)} ${middle},${y(row)} ${to},${y(row)}`}
              />,
            ];
          }),
        )}
      </svg>
      {columns.map((column, at) => (
        <section
          key={column.key}
          aria-label={column.title}
          data-column={column.key}
          style={{ left: x(at), width: WIDTH, "--tone": column.tone } as React.CSSProperties}
        >
          <header>
            <strong className="text-truncate">{column.title}</strong>
            <button aria-label={`take ${column.title} away`} onClick={() => take(column.key)}>
              ×
            </button>
          </header>
          <ol>
            {lists[at]!.map(({ chunk, on }, row) => {
              const number = numbers[at]![row]!;
              const alone = counts.get(number) === 1 && columns.length > 1;
              return (
                <li
                  key={chunk.number}
                  tabIndex={0}
                  title={chunk.text.slice(0, 400)}
                  className={[chunk.relevant && "right", !on && "out", over === number && "over"]
                    .filter(Boolean)
                    .join(" ")}
                  onMouseEnter={() => setOver(number)}
                  onMouseLeave={() => setOver(null)}
                  onFocus={() => setOver(number)}
                  onBlur={() => setOver(null)}
                >
                  <span className="rank num">{row + 1}</span>
                  <span className="what">
                    <span className="text-truncate">{place(chunk)}</span>
                    <span className="soft text-truncate">
                      {alone && <b className="alone">alone </b>}
                      {chunk.text.replace(/\s+/g, " ").slice(0, 80)}
                    </span>
                  </span>
                </li>
              );
            })}
            {lists[at]!.length === 0 && <li className="soft">nothing found</li>}
          </ol>
        </section>
      ))}
    </div>
  );
}
