// Why a passage is not handed on: where it stood at each stage, what it lacked, and what would have brought it in.
import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { Button, Modal } from "react-bootstrap";
import { client, unwrap, type Asked, type Schemas } from "../../api/client";
import { useLine, useStamp } from "../../api/queries";
import { field, withField } from "../../recipe/paths";
import { useSaveRecipe } from "../../recipe/api";
import { Shown } from "../../shell/states";
import { useMay, useWorkspace } from "../../shell/workspace";
import { score } from "../../text/numbers";

type Told = Schemas["WhyNot"];

/** A stretch of a document, in code points. */
export interface Stretch {
  document: number;
  start: number;
  end: number;
}

function useWhyNot(question: number | undefined, text: string, chunk?: number, stretch?: Stretch) {
  const workspace = useWorkspace();
  const stamp = useStamp();
  return useQuery({
    queryKey: ["why not", workspace, ...stamp, question, text, chunk, stretch],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/why-not", {
          params: {
            path: { workspace },
            query: { question, text: question ? undefined : text, chunk, ...stretch },
          },
        }),
      ),
    retry: false,
    staleTime: Infinity,
  });
}

interface About {
  asked: Asked;
  chunk?: number;
  stretch?: Stretch;
}

/** A button that says why; without a chunk or a stretch it is about the passages that hold the answer. */
export function WhyNot({ asked, chunk, stretch, children }: About & { children: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className="btn btn-link btn-sm p-0 align-baseline" onClick={() => setOpen(true)}>
        {children}
      </button>
      <Modal show={open} onHide={() => setOpen(false)} size="lg" scrollable aria-labelledby="why-not">
        <Modal.Header closeButton>
          <Modal.Title id="why-not" as="h2">
            {asked.trace.question}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>{open && <Body asked={asked} chunk={chunk} stretch={stretch} />}</Modal.Body>
      </Modal>
    </>
  );
}

/** The same for a chunk of a list, where it is not handed on. */
export function WhyNotChunk({ asked, chunk }: { asked: Asked; chunk: number }) {
  const context = asked.trace.stages.find(({ kind }) => kind === "context");
  const row = context?.chunks.indexOf(chunk) ?? -1;
  if (!context || context.kept[row]) return null;
  return (
    <WhyNot asked={asked} chunk={chunk}>
      Why is it not handed on?
    </WhyNot>
  );
}

function Body({ asked, chunk, stretch }: About) {
  const found = useWhyNot(asked.question?.id, asked.trace.question, chunk, stretch);
  return (
    <Shown query={found} what="Asking again, to the bottom of every list">
      {(told) => (
        <div className="why-not num">
          <p className="mb-2">
            <b>{told.document}</b>, chunk {told.chunk}:{" "}
            <span className="serif soft">{told.text.replace(/\s+/g, " ").slice(0, 180)}…</span>
          </p>
          <Places told={told} />
          {told.lacking.length > 0 && (
            <p className="small-text">
              Terms of the question that it does not hold, rarest first: <b>{told.lacking.join(", ")}</b>.
            </p>
          )}
          <Changes told={told} />
        </div>
      )}
    </Shown>
  );
}

function Places({ told }: { told: Told }) {
  return (
    <table className="table table-sm">
      <thead>
        <tr>
          <th>Stage</th>
          <th className="text-end">rank</th>
          <th className="text-end" title="larger is better">
            score
          </th>
          <th className="text-end">last that goes on</th>
          <th>what became of it</th>
        </tr>
      </thead>
      <tbody>
        {told.stood.map(({ stage, kind, rank, score: own, last, on, reason }) => (
          <tr key={stage} className={stage === told.left ? "left-here" : ""}>
            <th scope="row" style={{ color: `var(--${kind})` }}>
              {stage}
            </th>
            <td className="text-end">{rank ?? "–"}</td>
            <td className="text-end">{own === null ? "–" : score(own)}</td>
            <td className="text-end soft">{last === null ? "–" : score(last)}</td>
            <td className={on ? "gain" : "lost"}>{on ? "goes on" : reason}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Changes({ told }: { told: Told }) {
  const line = useLine();
  const save = useSaveRecipe(() => undefined);
  const mayEdit = useMay("editor");
  if (!told.left) return <p className="gain mb-0">It is handed on.</p>;
  if (!told.changes.length)
    return (
      <p className="mb-0">
        No single weight, depth or floor brings it into the context: it takes another cut, other indexes or
        another reranker.
      </p>
    );
  const body = line.data?.recipe.body as Record<string, unknown> | undefined;
  return (
    <>
      <h3>
        Any one of these alone would have brought it in{" "}
        <span className="soft fw-normal">for this question; a trial says what else they move</span>
      </h3>
      <table className="table table-sm mb-0">
        <tbody>
          {told.changes.map(({ path, title, now, needed }) => (
            <tr key={path}>
              <th scope="row">{title}</th>
              <td>
                {plain(now)} → <b>{plain(needed)}</b>
              </td>
              <td className="text-end">
                {mayEdit && body && field(body, path) === now && (
                  <Button
                    size="sm"
                    variant="outline-primary"
                    disabled={save.isPending || save.isSuccess}
                    onClick={() =>
                      save.mutate({ body: withField(body, path, needed), note: `${title} ${plain(needed)}` })
                    }
                  >
                    Save and measure
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {save.error && <p className="lost small-text">{save.error.message}</p>}
    </>
  );
}

const plain = (value: unknown): string => (value === null ? "none" : String(value));
