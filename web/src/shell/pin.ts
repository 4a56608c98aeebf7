// The pin: the question that every stage view is looking at. It lives in the address, so that it can be shared.
import { useCallback } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";

export const STAGES = ["documents", "chunks", "sparse", "dense", "fused", "reranked", "context"] as const;
export type StageName = (typeof STAGES)[number];
export const TITLES: Record<StageName, string> = {
  documents: "Documents",
  chunks: "Chunks",
  sparse: "Sparse",
  dense: "Dense",
  fused: "Fused",
  reranked: "Reranked",
  context: "Context",
};

/** What a picture counts beside words until somebody drags it. */
export const HALF = 0.5;

export interface Pin {
  question: number | null;
  /** A typed question; empty where a picture is asked by alone. */
  text: string | null;
  /** A picture that is asked by, beside the question or alone. */
  picture?: string | null;
  /** What it counts beside the words, 0 to 1. */
  share?: number;
}

export function usePin(): Pin {
  const [parameters] = useSearchParams();
  const question = parameters.get("q");
  const share = parameters.get("share");
  return {
    question: question ? Number(question) : null,
    text: parameters.get("ask"),
    picture: parameters.get("picture"),
    share: share === null ? HALF : Number(share),
  };
}

/** The branch that the address names; null where it leaves it to the recipe. */
export function useNamedBranch(): string | null {
  return useSearchParams()[0].get("branch");
}

export function useStage(): StageName | null {
  const { stage } = useParams();
  return STAGES.find((name) => name === stage) ?? null;
}

/** Moves to a stage, a question, or both; what is left out stays. */
export function useGo() {
  const navigate = useNavigate();
  const stage = useStage();
  const pin = usePin();
  const named = useNamedBranch();
  const { question, text, picture, share } = pin;
  return useCallback(
    (to: { stage?: StageName; pin?: Pin; branch?: string }) => {
      const next = to.pin ?? { question, text, picture, share };
      const search = new URLSearchParams();
      if (next.question !== null) search.set("q", String(next.question));
      else if (next.text || next.picture) search.set("ask", next.text ?? "");
      if (next.picture) {
        search.set("picture", next.picture);
        if (next.share !== undefined && next.share !== HALF) search.set("share", String(next.share));
      }
      const same = to.stage === undefined || to.stage === stage;
      const branch = to.branch ?? (same ? named : null);
      if (branch) search.set("branch", branch);
      navigate({ pathname: `/line/${to.stage ?? stage ?? "fused"}`, search: search.toString() });
    },
    [navigate, stage, named, question, text, picture, share],
  );
}

const LOST_AT: Record<string, StageName> = {
  delivered: "context",
  "cut by chunking": "chunks",
  "missed by every branch": "dense",
  "lost in fusion": "fused",
  "dropped by the reranker": "reranked",
  "under the floor": "reranked",
  "held to have no answer": "context",
  "passed over for what is new": "context",
  "over the context budget": "context",
  "rightly empty": "context",
  "wrongly filled": "context",
};
export const GOOD = ["delivered", "rightly empty"];
export const stageOfCause = (cause: string): StageName => LOST_AT[cause] ?? "context";
export const toneOfCause = (cause: string): string =>
  GOOD.includes(cause)
    ? "var(--answer)"
    : stageOfCause(cause) === "context" || cause === "missed by every branch"
      ? "var(--lost)"
      : `var(--${stageOfCause(cause)})`;
