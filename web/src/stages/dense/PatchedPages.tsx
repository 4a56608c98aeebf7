// The page that a chunk stands on, shaded: which patch of it answers which word of the question.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, unwrap, type Asked, type Schemas } from "../../api/client";
import { useStamp } from "../../api/queries";
import { usePin } from "../../shell/pin";
import { Shown } from "../../shell/states";
import { useWorkspace } from "../../shell/workspace";
import { score } from "../../text/numbers";
import { PassageCard } from "../shared/Passage";
import { chunksByNumber } from "../shared/trace";
import { everyWord, grouped, oneWord } from "./shades";

type Sheet = Schemas["ShadedSheet"];

function useShaded(asked: Asked, chunk: number | null, branch: string | null) {
  const workspace = useWorkspace();
  const [recipe] = useStamp();
  const pin = usePin();
  const text = asked.trace.question;
  // Without another one the question is asked by the picture that belongs to it.
  const { picture, share } = pin.picture || !asked.question ? pin : asked.question;
  return useQuery({
    queryKey: ["shaded", workspace, recipe, text, chunk, branch, picture, share],
    queryFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/dense/shaded", {
          params: { path: { workspace } },
          body: {
            text,
            chunk: chunk ?? 0,
            branch: branch ?? "",
            ...(picture ? { picture, share: share ?? undefined } : {}),
          },
        }),
      ),
    enabled: chunk !== null && branch !== null,
    staleTime: Infinity,
  });
}

export function PatchedPages({
  asked,
  chosen,
  branch,
  children,
}: {
  asked: Asked;
  chosen: number | null;
  branch: string | null;
  children?: React.ReactNode;
}) {
  const chunks = chunksByNumber(asked);
  const shaded = useShaded(asked, chosen, branch);
  return (
    <div style={{ "--tone": "var(--dense)" } as React.CSSProperties}>
      <h3>
        Which patch answers which word <span className="soft fw-normal">darker is nearer; click a word</span>
      </h3>
      <Shown query={shaded} what="Looking at the page">
        {(sheets) =>
          sheets.length ? (
            sheets.map((sheet) => <ShadedPage key={`${sheet.page}-${sheet.picture}`} sheet={sheet} />)
          ) : (
            <p className="small-text soft">No page or picture of this chunk can be seen.</p>
          )
        }
      </Shown>
      <PassageCard chunk={chosen === null ? undefined : chunks.get(chosen)}>{children}</PassageCard>
    </div>
  );
}

function ShadedPage({ sheet }: { sheet: Sheet }) {
  const workspace = useWorkspace();
  const [word, setWord] = useState<number | null>(null);
  // Marks weigh nothing.
  const words = grouped(sheet.matches).filter((one) => one.weight > 0);
  const shades = word === null ? everyWord(words, sheet.places.length) : oneWord(words[word]!);
  const most = Math.max(...words.map((one) => one.weight), 1e-9);
  const place = sheet.page ? `pages/${sheet.page}` : `figures/${sheet.picture}`;
  const named = sheet.page ? `Page ${sheet.page}` : `Picture ${sheet.picture}`;
  return (
    <div className="shaded">
      <div className="shaded-page">
        <img src={`/api/workspaces/${workspace}/documents/${sheet.document}/${place}`} alt={named} />
        <svg viewBox="0 0 1 1" preserveAspectRatio="none" aria-hidden>
          {sheet.places.map(([left = 0, top = 0, right = 0, bottom = 0], patch) =>
            (shades[patch] ?? 0) > 0.02 ? (
              <rect
                key={patch}
                x={left}
                y={top}
                width={right - left}
                height={bottom - top}
                fillOpacity={0.75 * (shades[patch] ?? 0)}
              />
            ) : null,
          )}
        </svg>
      </div>
      <div className="shaded-words" role="group" aria-label={`Words on ${named.toLowerCase()}`}>
        <div className="small-text soft num">
          {named}: {score(sheet.score)}, from {words.length} {words.length === 1 ? "word" : "words"}; the bar
          is what a word weighs, the figure its cosine with its best patch
        </div>
        {words.map((one, row) => (
          <button
            type="button"
            key={row}
            className="shaded-word"
            aria-pressed={word === row}
            onClick={() => setWord(word === row ? null : row)}
          >
            <span className="mono">{one.token}</span>
            <span className="num">
              <span className="bar" style={{ width: `${(30 * one.weight) / most}px` }} /> {score(one.cosine)}
            </span>
          </button>
        ))}
      </div>
    </div>
  );
}
