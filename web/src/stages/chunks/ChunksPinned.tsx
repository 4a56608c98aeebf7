// For a pin: the chunks that hold its answer, how much of it each holds, and what stands around them.
import { useState } from "react";
import { Table } from "react-bootstrap";
import { useFamily } from "../../api/catalogue";
import type { Asked } from "../../api/client";
import { useCut } from "./api";
import { useDocument, useDocumentView, useLine } from "../../api/queries";
import { Segments } from "../../shell/Segments";
import { Empty, Shown } from "../../shell/states";
import { percent } from "../../text/numbers";
import { CutText } from "./CutText";
import { described, type Chunking } from "./settings";

export function ChunksPinned({ asked }: { asked: Asked }) {
  const [chosen, setChosen] = useState(0);
  const line = useLine();
  const rules = useFamily("chunking");
  const chunking = line.data?.recipe.body.chunking as Chunking | undefined;
  const span = asked.spans[chosen];
  const document = useDocument(span?.document ?? null);
  const view = useDocumentView(span?.document ?? null);
  const cut = useCut(span?.document ?? null, chunking ?? null);
  if (!span || span.start === null || span.end === null)
    return (
      <Empty title={span ? "The whole document is the answer" : "No answer to look for in the chunks"}>
        {span ? "Every chunk of it is relevant, once." : "Pin a labelled question that has an answer."}
      </Empty>
    );
  const [low, high] = [span.start, span.end];
  const numbers = new Map(view.data?.chunks.map((chunk) => [chunk.start, chunk.number]));
  const chunks = cut.data?.document === span.document ? cut.data.chunks : [];
  const touching = chunks.filter((chunk) => chunk.start < high && chunk.end > low);
  const first = chunks.findIndex((chunk) => chunk === touching[0]);
  const around = first < 0 ? [] : chunks.slice(Math.max(first - 1, 0), first + touching.length + 1);
  const nested = around.some((chunk) => chunk.host_end > chunk.end || chunk.host_start < chunk.start);
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
              {nested && <th className="text-end">Of it in the host</th>}
              <th>Relevant</th>
            </tr>
          </thead>
          <tbody>
            {around.map((chunk) => {
              const of = (start: number, end: number) =>
                Math.max(0, Math.min(end, high) - Math.max(start, low));
              const shared = of(chunk.start, chunk.end);
              const number = numbers.get(chunk.start);
              return (
                <tr key={chunk.start} className={shared ? "" : "soft"}>
                  <td>
                    {chunks.indexOf(chunk) + 1}
                    {number !== undefined && <span className="soft"> (no. {number})</span>}
                  </td>
                  <td className={`text-end ${chunk.past !== null ? "lost" : ""}`}>
                    {chunk.tokens + chunk.context}
                  </td>
                  <td className="text-end">{shared ? percent(shared / (high - low)) : "neighbour"}</td>
                  {nested && (
                    <td className="text-end">
                      {percent(of(chunk.host_start, chunk.host_end) / (high - low))}
                    </td>
                  )}
                  <td className={number !== undefined && span.chunks.includes(number) ? "gain" : ""}>
                    {number !== undefined && span.chunks.includes(number) ? "yes" : "no"}
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
          Numbers in the text mark where a chunk of this document begins; hatching is text stored twice.{" "}
          {chunking && `The cut: ${described(rules, chunking)}.`}
        </p>
      </div>
      <div>
        <Shown query={document} what="Opening the document">
          {(data) => (
            <CutText
              key={chosen}
              document={data}
              cut={cut.data}
              show={low}
              focus={{ start: low, end: high }}
            />
          )}
        </Shown>
      </div>
    </div>
  );
}
