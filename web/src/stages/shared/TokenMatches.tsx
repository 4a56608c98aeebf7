// Which token of a passage each token of the question was matched with, by a branch or by the scorer.
import type { Asked } from "../../api/client";
import { client, unwrap } from "../../api/client";
import { useQuery } from "@tanstack/react-query";
import { useStamp } from "../../api/queries";
import { useWorkspace } from "../../shell/workspace";
import { score } from "../../text/numbers";
import { PassageCard } from "./Passage";
import { chunksByNumber } from "./trace";

/** What the tokens were matched with by a branch, or by the scorer where none is named. */
function useMatches(text: string, chunk: number | null, branch: string | null) {
  const workspace = useWorkspace();
  const [recipe] = useStamp();
  return useQuery({
    queryKey: ["matches", workspace, recipe, text, chunk, branch],
    queryFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/reranked/matches", {
          params: { path: { workspace } },
          body: { text, chunk: chunk ?? 0, branch: branch ?? undefined },
        }),
      ),
    enabled: chunk !== null,
    staleTime: Infinity,
  });
}

export function TokenMatches({
  asked,
  chosen,
  tone,
  branch = null,
  children,
}: {
  asked: Asked;
  chosen: number | null;
  tone: string;
  branch?: string | null;
  children?: React.ReactNode;
}) {
  const chunks = chunksByNumber(asked);
  const matches = useMatches(asked.trace.question, chosen, branch).data ?? [];
  const most = Math.max(...matches.map((match) => match.weight * match.cosine), 1e-9);
  return (
    <div style={{ "--tone": tone } as React.CSSProperties}>
      <h3>
        What the question&apos;s tokens were matched with{" "}
        <span className="soft fw-normal">darker adds more to the score</span>
      </h3>
      <PassageCard
        chunk={chosen === null ? undefined : chunks.get(chosen)}
        show="tokens"
        tokens={matches.map((match) => ({
          start: match.start,
          end: match.end,
          strength: 0.08 + (0.5 * Math.max(match.weight * match.cosine, 0)) / most,
        }))}
      >
        {children}
      </PassageCard>
      {matches.length > 0 && (
        <table className="table table-sm small-text num mt-2">
          <thead>
            <tr>
              <th>Token</th>
              <th>matched with</th>
              <th className="text-end">cosine</th>
              <th>weight × cosine</th>
            </tr>
          </thead>
          <tbody>
            {matches.map((match, row) => (
              <tr key={row}>
                <td className="mono">{match.token}</td>
                <td className="mono">
                  {Array.from(chunks.get(chosen ?? -1)?.text ?? "")
                    .slice(match.start, match.end)
                    .join("")}
                </td>
                <td className="text-end">{score(match.cosine)}</td>
                <td>
                  <span
                    className="bar"
                    style={{ width: `${(70 * Math.max(match.weight * match.cosine, 0)) / most}px` }}
                  />{" "}
                  {score(match.weight * match.cosine)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
