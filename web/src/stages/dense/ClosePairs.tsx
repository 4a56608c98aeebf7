// Chunks that are nearly the same to the encoder: they crowd answers out of every list.
import { useDeferredValue, useState } from "react";
import { Form } from "react-bootstrap";
import { useClosePairs, type BriefChunk } from "./api";
import { Shown } from "../../shell/states";
import { score } from "../../text/numbers";
import { useSettled } from "../chunks/settled";

export function ClosePairs({ branch }: { branch: string | null }) {
  const [above, setAbove] = useState(0.85);
  const pairs = useClosePairs(useSettled(useDeferredValue(above), 250), branch);
  return (
    <>
      <div className="d-flex gap-3 align-items-center mb-2">
        <label htmlFor="above" className="small-text text-nowrap">
          cosine at least <b className="num">{score(above)}</b>
        </label>
        <Form.Range
          id="above"
          min={0.6}
          max={1}
          step={0.01}
          value={above}
          onChange={(event) => setAbove(Number(event.target.value))}
          style={{ maxWidth: 260 }}
        />
        <span className="small-text soft num" data-pairs={pairs.data?.count ?? ""}>
          {pairs.data &&
            (pairs.data.count === null
              ? `More than ${pairs.data.up_to.toLocaleString()} chunks: too many to compare while you wait.`
              : `${pairs.data.count === 1 ? "1 pair" : `${pairs.data.count.toLocaleString()} pairs`} over the whole corpus` +
                (pairs.data.count > pairs.data.pairs.length
                  ? `, the closest ${pairs.data.pairs.length} below`
                  : ""))}
        </span>
      </div>
      <Shown query={pairs} what="Comparing all chunks with each other">
        {(data) => (
          <div className="pairs">
            {data.count === 0 && (
              <div className="state">
                <strong>No two chunks are that close</strong>
                <span>Move the bar to the left to see which come nearest.</span>
              </div>
            )}
            {data.pairs.map(({ one, other, cosine }) => (
              <div key={`${one.number} ${other.number}`} className="close-pair">
                <span className="num">{score(cosine)}</span>
                <Side chunk={one} />
                <Side chunk={other} />
              </div>
            ))}
          </div>
        )}
      </Shown>
    </>
  );
}

function Side({ chunk }: { chunk: BriefChunk }) {
  return (
    <div>
      <div className="small-text soft">
        {[chunk.title, ...chunk.section.slice(-1)].join(", ")}, chunk {chunk.number}
      </div>
      <div className="passage clipped">{chunk.text.replace(/\s+/g, " ")}</div>
    </div>
  );
}
