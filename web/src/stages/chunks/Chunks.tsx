// Chunks: their lengths, the answers that they cut; for a pin, the chunks that hold its answer.
import { useState } from "react";
import { Table } from "react-bootstrap";
import type { Asked } from "../../api/client";
import { useChunkStage, useDocument, useDocumentView, useLine } from "../../api/queries";
import { useGo } from "../../shell/pin";
import { Segments } from "../../shell/Segments";
import { Empty, Shown } from "../../shell/states";
import { percent } from "../../text/numbers";
import { Reader, type MarkedRange } from "../documents/Reader";
import { Bars } from "../shared/Bars";
import { Figures, StageHead } from "../shared/Figures";

interface Cutting {
  rule: string;
  unit: string;
  size: number;
  overlap: number;
}

function useCutting(): string {
  const line = useLine();
  const cutting = (line.data?.recipe.body as { chunking?: Cutting } | undefined)?.chunking;
  return cutting
    ? `${cutting.rule.replace("-", " ")}, up to ${cutting.size} ${cutting.unit}, overlap ${cutting.overlap}`
    : "";
}

export function Chunks() {
  const stage = useChunkStage();
  const go = useGo();
  const cutting = useCutting();
  return (
    <>
      <StageHead title="Chunks">{cutting}</StageHead>
      <div className="body">
        <Shown query={stage} what="Counting chunks">
          {(data) => (
            <>
              <Figures
                rows={[
                  [data.count.toLocaleString(), "chunks"],
                  [data.median.toFixed(0), "tokens, median"],
                  [data.p95.toFixed(0), "tokens, 95th percentile"],
                  [percent(data.overlap), "of the stored text is overlap"],
                  [data.over_limit, `longer than the encoder reads (${data.limit} tokens)`],
                  [`${data.intact} of ${data.spans}`, "labelled answers whole in one chunk"],
                ]}
              />
              <div className="split two" style={{ height: "auto" }}>
                <div>
                  <h3>How long chunks are</h3>
                  <Bars
                    tone="var(--fused)"
                    data={data.bins.map((bin) => ({ name: String(bin.high), value: bin.chunks }))}
                    x="tokens, up to"
                    y="chunks"
                    mark={markAt(data.bins, data.limit)}
                  />
                </div>
                <div>
                  <h3>Answers that no chunk holds whole</h3>
                  {data.cut.length === 0 ? (
                    <p className="soft">None: every labelled answer stands whole in some chunk.</p>
                  ) : (
                    <Table size="sm" hover className="small-text">
                      <thead>
                        <tr>
                          <th>Question</th>
                          <th className="text-end">Pieces</th>
                          <th className="text-end">Largest piece</th>
                        </tr>
                      </thead>
                      <tbody>
                        {data.cut.map((row, place) => (
                          <tr
                            key={place}
                            role="button"
                            tabIndex={0}
                            onClick={() => go({ pin: { question: row.question, text: null } })}
                            onKeyDown={(event) =>
                              event.key === "Enter" && go({ pin: { question: row.question, text: null } })
                            }
                          >
                            <td>
                              {row.text}
                              <div className="soft">{row.title}</div>
                            </td>
                            <td className="text-end num">{row.pieces}</td>
                            <td className="text-end num">{percent(row.best)}</td>
                          </tr>
                        ))}
                      </tbody>
                    </Table>
                  )}
                  <p className="small-text soft">
                    A cut answer is still in play while a chunk shares half of the shorter of the two. The
                    level counts a question as lost here only when no chunk does.
                  </p>
                </div>
              </div>
            </>
          )}
        </Shown>
      </div>
    </>
  );
}

function markAt(bins: { low: number; high: number }[], limit: number) {
  const bin = bins.find((row) => row.low < limit && row.high >= limit);
  return bin && { at: String(bin.high), label: `encoder reads ${limit}` };
}

export function ChunksPinned({ asked }: { asked: Asked }) {
  const [chosen, setChosen] = useState(0);
  const span = asked.spans[chosen];
  const document = useDocument(span?.document ?? null);
  const view = useDocumentView(span?.document ?? null);
  const cutting = useCutting();
  if (!span || span.start === null || span.end === null)
    return (
      <Empty title={span ? "The whole document is the answer" : "No answer to look for in the chunks"}>
        {span ? "Every chunk of it is relevant, once." : "Pin a labelled question that has an answer."}
      </Empty>
    );
  const [low, high] = [span.start, span.end];
  const chunks = view.data?.chunks ?? [];
  const touching = chunks.filter((chunk) => chunk.start < high && chunk.end > low);
  const first = chunks.findIndex((chunk) => chunk === touching[0]);
  const around = chunks.slice(Math.max(first - 1, 0), first + touching.length + 1);
  const twice = chunks.slice(1).flatMap<MarkedRange>((chunk, place) => {
    const before = chunks[place]!;
    return before.end > chunk.start ? [{ start: chunk.start, end: before.end, kind: "twice" }] : [];
  });
  return (
    <div className="split list-reader">
      <div>
        <h3>
          {touching.length === 1
            ? "One chunk touches the answer"
            : `${touching.length} chunks touch the answer`}
        </h3>
        {asked.spans.length > 1 && (
          <div className="mb-2">
            <Segments
              options={asked.spans.map((_, place) => [place, `answer ${place + 1}`])}
              value={chosen}
              choose={setChosen}
            />
          </div>
        )}
        <Table size="sm" className="small-text num">
          <thead>
            <tr>
              <th>Chunk</th>
              <th className="text-end">Tokens</th>
              <th className="text-end">Of the answer</th>
              <th>Relevant</th>
            </tr>
          </thead>
          <tbody>
            {around.map((chunk) => {
              const shared = Math.max(0, Math.min(chunk.end, high) - Math.max(chunk.start, low));
              return (
                <tr key={chunk.number} className={shared ? "" : "soft"}>
                  <td>{chunk.number}</td>
                  <td className="text-end">{chunk.tokens}</td>
                  <td className="text-end">{shared ? percent(shared / (high - low)) : "neighbour"}</td>
                  <td>
                    {span.chunks.includes(chunk.number) ? (
                      <strong className="gain">yes</strong>
                    ) : shared ? (
                      <span className="lost">too little</span>
                    ) : (
                      "no"
                    )}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </Table>
        <p className="small-text">
          {span.intact ? (
            <strong className="gain">The answer is whole in one chunk.</strong>
          ) : (
            <strong className="lost">The answer is cut: no chunk holds all of it.</strong>
          )}
        </p>
        <p className="small-text soft">
          Numbers in the text mark where a chunk begins; hatching is text stored twice. The cut: {cutting}.
        </p>
      </div>
      <div>
        <Shown query={document} what="Opening the document">
          {(data) => (
            <Reader
              key={chosen}
              document={data}
              chunkStarts={chunks}
              marks={[...twice, { start: low, end: high, kind: "pinned" }]}
            />
          )}
        </Shown>
      </div>
    </div>
  );
}
