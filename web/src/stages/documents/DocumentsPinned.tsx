// The pinned question in the documents: where its answers stand, and in label mode the place to mark them.
import { useMemo, useState } from "react";
import { Button, Form } from "react-bootstrap";
import type { Asked, DocumentText } from "../../api/client";
import { useDocument, useDocuments } from "../../api/queries";
import { DragEnds } from "../../labels/DragEnds";
import { useLabelMode } from "../../labels/mode";
import { selectedWords } from "../../labels/selection";
import { Empty, Shown } from "../../shell/states";
import { codePoints } from "../../text/codepoints";
import { Segments } from "../../shell/Segments";
import { PagePicture } from "./PagePicture";
import { Reader, type MarkedRange } from "./Reader";
import { WhyNotSelected } from "./WhyNotSelected";
import { filtered } from "./filter";
import { findAll, pageAt } from "./search";

type Span = Asked["spans"][number];

export function DocumentsPinned({ asked }: { asked: Asked }) {
  const mode = useLabelMode();
  const [chosen, setChosen] = useState(0);
  const [other, setOther] = useState<number | null>(null);
  const span = other === null ? asked.spans[chosen] : undefined;
  const labelling = mode.on && asked.question !== null;
  const number = other ?? span?.document ?? null;
  return (
    <div className="split list-reader">
      <div>
        {asked.spans.length > 0 && (
          <h3>
            {asked.spans.length === 1
              ? "The answer"
              : `${asked.spans.length} places that answer it; any one is enough`}
          </h3>
        )}
        {asked.spans.map((row, place) => (
          <Answer
            key={row.id}
            asked={asked}
            span={row}
            current={other === null && place === chosen}
            labelling={labelling}
            open={() => {
              setChosen(place);
              setOther(null);
            }}
          />
        ))}
        {!labelling && !span && asked.spans.length === 0 && <NoAnswer asked={asked} />}
        <OtherDocument asked={asked} chosen={number} choose={setOther} labelling={labelling} />
      </div>
      <div>
        {number === null ? (
          <Empty title={labelling ? "Where does the answer stand?" : "What became of a passage?"}>
            Choose a document on the left: those that the pipeline found for the question come first.
            {!labelling && " Then select any text of it to see where it stood."}
          </Empty>
        ) : (
          <OpenFor
            key={`${number}-${span?.id}`}
            asked={asked}
            number={number}
            span={span}
            labelling={labelling}
          />
        )}
      </div>
    </div>
  );
}

function NoAnswer({ asked }: { asked: Asked }) {
  if (!asked.question)
    return (
      <Empty title="A typed question has no label">
        Look at the later stages to see what was found for it, or keep it and mark its answer.
      </Empty>
    );
  return asked.question.unanswerable ? (
    <Empty title="No document answers this question">
      It is labelled as unanswerable: the right result is an empty context.
    </Empty>
  ) : (
    <Empty title="No label yet">
      Press g, choose a document, and select the words that answer it; or say that no document does.
    </Empty>
  );
}

function Answer({
  asked,
  span,
  current,
  labelling,
  open,
}: {
  asked: Asked;
  span: Span;
  current: boolean;
  labelling: boolean;
  open: () => void;
}) {
  const mode = useLabelMode();
  const document = useDocument(labelling ? span.document : null);
  const text = document.data?.text;
  function moveHere() {
    const points = text === undefined ? undefined : codePoints(text);
    const words = selectedWords((number) => (number === span.document ? points : undefined));
    if (words && words.document === span.document) mode.move(asked, span.id, words);
  }
  return (
    <div className="answer-card" aria-current={current ? "true" : undefined}>
      <button type="button" className="open" onClick={open}>
        <strong>{span.title}</strong>
        <span className="small-text soft">
          {span.section[span.section.length - 1]}
          {!labelling && `, grade ${span.grade}`}
        </span>
        <span className="small-text serif">{span.text.slice(0, 220) || "the whole document"}</span>
      </button>
      {labelling && (
        <div className="tools small-text">
          {[1, 2, 3].map((grade) => (
            <Button
              key={grade}
              size="sm"
              variant={span.grade === grade ? "primary" : "outline-primary"}
              aria-label={`Grade ${grade}`}
              aria-pressed={span.grade === grade}
              disabled={mode.busy}
              onClick={() => mode.judge(asked, span, grade)}
            >
              {grade}
            </Button>
          ))}
          <Button
            size="sm"
            variant="outline-primary"
            disabled={mode.busy || !current}
            title="Select the words that it should be, then press this"
            onMouseDown={(event) => event.preventDefault()}
            onClick={moveHere}
          >
            Make it the selection
          </Button>
          <Button
            size="sm"
            variant="outline-danger"
            disabled={mode.busy}
            onClick={() => mode.remove(asked, span.id)}
          >
            Remove
          </Button>
        </div>
      )}
    </div>
  );
}

/** Documents to look for an answer in: those that were found for the question, then all by their names. */
function OtherDocument({
  asked,
  chosen,
  choose,
  labelling,
}: {
  asked: Asked;
  chosen: number | null;
  choose: (number: number) => void;
  labelling: boolean;
}) {
  const documents = useDocuments();
  const [words, setWords] = useState("");
  const rows = useMemo(() => {
    const found = [...new Set(asked.chunks.map((chunk) => chunk.document))];
    const last = asked.trace.stages[asked.trace.stages.length - 1];
    const byNumber = new Map(asked.chunks.map((chunk) => [chunk.number, chunk.document]));
    const order = [...new Set((last?.chunks ?? []).map((chunk) => byNumber.get(chunk)))];
    const rank = (number: number) => {
      const at = order.indexOf(number);
      return at >= 0 ? at : found.includes(number) ? order.length : order.length + 1;
    };
    return filtered(documents.data ?? [], words, null).sort((a, b) => rank(a.id) - rank(b.id));
  }, [asked, documents.data, words]);
  return (
    <section className="mt-2">
      <h3>
        {!labelling ? "Another document" : asked.spans.length ? "Another place" : "Look for the answer in"}
      </h3>
      <Form.Control
        size="sm"
        type="search"
        placeholder="Title or file name"
        aria-label="Title or file name"
        value={words}
        onChange={(event) => setWords(event.target.value)}
      />
      {rows.slice(0, 40).map((row) => (
        <button
          type="button"
          key={row.id}
          className="hit"
          style={{ gridTemplateColumns: "1fr" }}
          aria-pressed={row.id === chosen}
          onClick={() => choose(row.id)}
        >
          <span className="text-truncate">{row.title}</span>
          <span className="small-text soft text-truncate mono">{row.name}</span>
        </button>
      ))}
      {rows.length > 40 && (
        <div className="small-text soft p-1">and {rows.length - 40} more: search by name</div>
      )}
    </section>
  );
}

function OpenFor({
  asked,
  number,
  span,
  labelling,
}: {
  asked: Asked;
  number: number;
  span: Span | undefined;
  labelling: boolean;
}) {
  const document = useDocument(number);
  const [words, setWords] = useState("");
  const marks = asked.spans
    .filter((one) => one.document === number && one.start !== null && one.end !== null)
    .map<MarkedRange>((one) => ({
      start: one.start!,
      end: one.end!,
      kind: one === span ? "pinned" : "answer",
    }));
  const text = document.data?.text;
  const found = useMemo(() => (text ? findAll(codePoints(text), words) : []), [text, words]);
  const mode = useLabelMode();
  const [side, setSide] = useState<"text" | "page">("text");
  const reader = (data: DocumentText) => (
    <Reader
      document={data}
      marks={[...marks, ...found.map<MarkedRange>((range) => ({ ...range, kind: "found" }))]}
      show={found[0]?.start ?? span?.start ?? 0}
    />
  );
  return (
    <Shown query={document} what="Opening the document">
      {(data) => (
        <>
          {!labelling && <WhyNotSelected asked={asked} document={data} />}
          {labelling && (
            <div className="d-flex gap-2 align-items-center mb-2">
              <strong className="serif text-truncate">{data.title}</strong>
              <Form.Control
                size="sm"
                type="search"
                className="ms-auto"
                style={{ width: "15rem" }}
                placeholder="Find in the text"
                aria-label="Find in the text"
                value={words}
                onChange={(event) => setWords(event.target.value)}
              />
              <span className="small-text soft num text-nowrap">
                {words.trim().length > 1 && (found.length ? `${found.length} places` : "not in it")}
              </span>
            </div>
          )}
          {data.pictures && (
            <div className="mb-2">
              <Segments
                options={[
                  ["text", "Text"],
                  ["page", "Page"],
                ]}
                value={side}
                choose={setSide}
              />
            </div>
          )}
          {side === "page" && data.pictures ? (
            <PagePicture
              document={data}
              page={pageAt(data.blocks, found[0]?.start ?? span?.start ?? 0) || 1}
              marks={marks}
            />
          ) : labelling && span ? (
            <DragEnds
              textOf={(one) => (one === number ? codePoints(data.text) : undefined)}
              moved={(words) => mode.move(asked, span.id, words)}
            >
              {reader(data)}
            </DragEnds>
          ) : (
            reader(data)
          )}
        </>
      )}
    </Shown>
  );
}
