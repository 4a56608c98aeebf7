// The question drawer: type any question, or pin a labelled one; those not delivered come first.
import type { UseQueryResult } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { Form } from "react-bootstrap";
import type { QuestionRow } from "../api/client";
import { useAskedBefore } from "../api/queries";
import { Marker } from "../shell/Marker";
import { stageOfCause, toneOfCause, useGo, usePin } from "../shell/pin";
import { Shown } from "../shell/states";
import { AskPicture, pictureOf, useAskByPicture } from "./AskPicture";
import { ending, inOrder, isFailing } from "./order";

export function Drawer({ questions }: { questions: UseQueryResult<QuestionRow[], Error> }) {
  const go = useGo();
  const pin = usePin();
  const [draft, setDraft] = useState(pin.text ?? "");
  const [over, setOver] = useState(false);
  const byPicture = useAskByPicture();
  const bring = (data: DataTransfer | null) => {
    const file = pictureOf(data);
    if (file) byPicture.mutate({ file, words: draft.trim() });
    return Boolean(file);
  };
  const before = useAskedBefore();
  return (
    <aside
      className={`panel drawer ${over ? "takes-picture" : ""}`}
      aria-label="Questions"
      onDragOver={(event) => {
        if (![...event.dataTransfer.items].some(({ type }) => type.startsWith("image/"))) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        setOver(false);
        if (bring(event.dataTransfer)) event.preventDefault();
      }}
      onPaste={(event) => {
        if (bring(event.clipboardData)) event.preventDefault();
      }}
    >
      <form
        className="ask"
        onSubmit={(event) => {
          event.preventDefault();
          if (draft.trim() || pin.picture)
            go({ pin: { question: null, text: draft.trim(), picture: pin.picture, share: pin.share } });
        }}
      >
        <Form.Control
          id="ask"
          value={draft}
          maxLength={2000}
          placeholder="Ask anything, or pick a question"
          aria-label="Ask anything"
          autoComplete="off"
          list="asked-before"
          onFocus={() => void before.refetch()}
          onChange={(event) => setDraft(event.target.value)}
        />
        <datalist id="asked-before">
          {before.data?.map((row) => (
            <option key={row.text} value={row.text} />
          ))}
        </datalist>
        {!draft && <kbd>/</kbd>}
      </form>
      <AskPicture
        words={draft}
        ask={byPicture}
        question={questions.data?.find((row) => row.id === pin.question)}
      />
      {pin.text && (
        <div className="px-2 pb-1">
          <button type="button" className="question" aria-current="true">
            <Marker kind="dense" tone="var(--soft)" />
            <span>
              <span className="words">{pin.text}</span>
              <span className="why" style={{ "--tone": "var(--soft)" } as React.CSSProperties}>
                typed: no label, so nothing can be called lost
              </span>
            </span>
          </button>
        </div>
      )}
      <Shown query={questions} what="Reading the questions">
        {(rows) => <Rows rows={rows} />}
      </Shown>
    </aside>
  );
}

function Rows({ rows }: { rows: QuestionRow[] }) {
  const go = useGo();
  const pin = usePin();
  const [tag, setTag] = useState("");
  const tags = useMemo(() => [...new Set(rows.flatMap((row) => row.tags))].sort(), [rows]);
  const shown = useMemo(() => inOrder(rows.filter((row) => !tag || row.tags.includes(tag))), [rows, tag]);
  const frame = useRef<HTMLDivElement>(null);
  const list = useVirtualizer({
    count: shown.length,
    getScrollElement: () => frame.current,
    estimateSize: () => 52,
    getItemKey: (index) => shown[index]!.id,
    overscan: 8,
  });
  const here = shown.findIndex((row) => row.id === pin.question);
  useEffect(() => {
    if (here >= 0) list.scrollToIndex(here, { align: "auto" });
  }, [here, list]);
  const failing = shown.filter(isFailing).length;
  return (
    <>
      <div className="d-flex justify-content-between align-items-center px-3 pb-1 small-text soft">
        <span>
          {shown.some((row) => row.cause !== null)
            ? `${failing} of ${shown.length} not right`
            : `${shown.length} questions`}
        </span>
        <Form.Select
          size="sm"
          style={{ width: "auto" }}
          aria-label="Tag"
          value={tag}
          onChange={(event) => setTag(event.target.value)}
        >
          <option value="">all tags</option>
          {tags.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </Form.Select>
      </div>
      <div className="list" ref={frame}>
        <div style={{ height: list.getTotalSize(), position: "relative" }}>
          {list.getVirtualItems().map((item) => {
            const row = shown[item.index]!;
            const cause = row.cause ?? "";
            return (
              <div
                key={row.id}
                ref={list.measureElement}
                data-index={item.index}
                style={{
                  position: "absolute",
                  top: 0,
                  width: "100%",
                  transform: `translateY(${item.start}px)`,
                }}
              >
                <button
                  type="button"
                  className="question"
                  data-question={row.identity}
                  aria-current={row.id === pin.question ? "true" : undefined}
                  style={{ "--tone": cause ? toneOfCause(cause) : "var(--soft)" } as React.CSSProperties}
                  onClick={() =>
                    go({ pin: { question: row.id === pin.question ? null : row.id, text: null } })
                  }
                >
                  <span className="pt-1">
                    <Marker kind={cause ? stageOfCause(cause) : "dense"} tone="var(--tone)" />
                  </span>
                  <span>
                    <span className="words">{row.text}</span>
                    <span className="why">{ending(row)}</span>
                  </span>
                </button>
              </div>
            );
          })}
        </div>
      </div>
    </>
  );
}
