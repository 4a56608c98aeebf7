// One document: its text with answers marked, outline, search, pages as pictures, metadata and versions.
import { useMemo, useRef, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { useSearchParams } from "react-router";
import type { DocumentText } from "../../api/client";
import { useCorrectOutline } from "./api";
import { useDocumentView } from "../../api/queries";
import { useGo } from "../../shell/pin";
import { Segments } from "../../shell/Segments";
import { addressOf, useWorkspace } from "../../shell/workspace";
import { codePoints } from "../../text/codepoints";
import { shownValue } from "./filter";
import { OutlineList } from "./Outline";
import { Reader, type MarkedRange } from "./Reader";
import { findAll, pageAt } from "./search";
import { PagePicture } from "./PagePicture";

export function OpenDocument({ document }: { document: DocumentText }) {
  const view = useDocumentView(document.id);
  const [words, setWords] = useState("");
  const [at, setAt] = useState(0);
  const [side, setSide] = useState<"outline" | "page">("outline");
  const cited = useCited(document.id);
  const [offset, setOffset] = useState(cited?.start ?? 0);
  const [seen, setSeen] = useState(0);
  const points = useMemo(() => codePoints(document.text), [document.text]);
  const found = useMemo(() => findAll(points, words), [points, words]);
  const here = found[at % Math.max(found.length, 1)];
  const answers = useMemo(() => view.data?.answers ?? [], [view.data]);
  const marks = useMemo(
    () => [
      ...answers.flatMap<MarkedRange>(({ start, end }) =>
        start === null || end === null ? [] : [{ start, end, kind: "answer" }],
      ),
      ...(cited ? [{ ...cited, kind: "focus" as const }] : []),
      ...found.map<MarkedRange>((range) => ({ ...range, kind: range === here ? "here" : "found" })),
    ],
    [answers, found, here, cited],
  );
  const dropped = document.sections.filter((section) => section.dropped);
  const move = (by: number) => found.length && setAt((at + by + found.length) % found.length);
  return (
    <div className="open-document">
      <div className="document-head">
        <div className="min-w-0">
          <strong className="serif">{document.title}</strong>
          <div className="small-text soft text-truncate">
            <span className="mono">{document.name}</span>, {document.words.toLocaleString()} words
            {document.pages > 0 && `, ${document.pages} pages`}
            {document.version > 1 && `, version ${document.version}`}
          </div>
        </div>
        <div className="ms-auto d-flex gap-2 align-items-center">
          {document.pictures && (
            <Segments
              options={[
                ["outline", "Outline"],
                ["page", "Page"],
              ]}
              value={side}
              choose={setSide}
            />
          )}
          <Form.Control
            size="sm"
            type="search"
            className="find"
            placeholder="Find in the text"
            aria-label="Find in the text"
            value={words}
            onChange={(event) => {
              setWords(event.target.value);
              setAt(0);
            }}
            onKeyDown={(event) => event.key === "Enter" && move(event.shiftKey ? -1 : 1)}
          />
          <span className="small-text soft num text-nowrap">
            {words.trim().length > 1 && (found.length ? `${at + 1} of ${found.length}` : "not in it")}
          </span>
        </div>
      </div>
      <About document={document} />
      <div className="document-body">
        <TextPane
          document={document}
          marks={marks}
          dropped={dropped}
          show={here?.start ?? offset}
          moved={setOffset}
          seen={setSeen}
          answers={answers}
        />
        {side === "page" && document.pictures ? (
          <PagePicture
            document={document}
            page={pageAt(document.blocks, seen) || 1}
            marks={marks.filter((mark) => mark.kind === "answer" || mark.kind === "focus")}
          />
        ) : (
          <OutlineList document={document} go={setOffset} current={seen} />
        )}
      </div>
    </div>
  );
}

/** The range that an address points at, as citations do. */
function useCited(document: number): { start: number; end: number } | null {
  const [parameters] = useSearchParams();
  const [from, to] = [parameters.get("from"), parameters.get("to")];
  const here = parameters.get("doc") === String(document);
  return useMemo(
    () => (here && from && to ? { start: Number(from), end: Number(to) } : null),
    [here, from, to],
  );
}

function About({ document }: { document: DocumentText }) {
  const carried = Object.entries(document.carried);
  const changed = document.versions[0];
  if (!document.metadata.length && !carried.length && document.version === 1) return null;
  return (
    <div className="about small-text">
      {document.metadata.map(({ key, kind, value }) => (
        <span key={key} title={kind}>
          <span className="soft">{key}</span> {shownValue(value)}
        </span>
      ))}
      {carried.map(([key, value]) => (
        <span key={key} title="handed on with every passage, not searched" className="carried">
          <span className="soft">{key}</span> {value}
        </span>
      ))}
      {changed && changed.version > 1 && (
        <span className={changed.labels_lost ? "lost" : ""}>
          Version {changed.version}: {changed.labels_moved} labels moved
          {changed.labels_lost > 0 && `, ${changed.labels_lost} lost their place`}
          {changed.corrections_lost.length > 0 &&
            `, ${changed.corrections_lost.length} corrections of headings that are gone`}
        </span>
      )}
    </div>
  );
}

function TextPane({
  document,
  marks,
  dropped,
  show,
  moved,
  seen,
  answers,
}: {
  document: DocumentText;
  marks: MarkedRange[];
  dropped: { start: number; end: number }[];
  show: number;
  moved: (offset: number) => void;
  /** Told the offset at the top of what is in view. */
  seen: (offset: number) => void;
  answers: { question: number; text: string; start: number | null }[];
}) {
  const go = useGo();
  const workspace = useWorkspace();
  const pane = useRef<HTMLDivElement>(null);
  const [chosen, setChosen] = useState<{ start: number; text: string } | null>(null);
  const correct = useCorrectOutline(document.id);
  function selected() {
    const selection = window.getSelection();
    const node = selection?.anchorNode;
    const inside = node instanceof Element ? node : node?.parentElement;
    const block = inside?.closest<HTMLElement>("[data-at]");
    const text = selection?.toString().trim() ?? "";
    const begins = block?.textContent?.trim().startsWith(text);
    setChosen(
      text && block && begins && text.length <= 200 ? { start: Number(block.dataset.at), text } : null,
    );
  }
  function scrolled() {
    const box = pane.current?.getBoundingClientRect();
    const blocks = pane.current?.querySelectorAll<HTMLElement>("[data-at]") ?? [];
    const first = [...blocks].find((block) => block.getBoundingClientRect().bottom > (box?.top ?? 0) + 60);
    if (first) seen(Number(first.dataset.at));
  }
  return (
    <div ref={pane} className="text-pane" onMouseUp={selected} onScroll={scrolled}>
      {answers.length > 0 && (
        <details className="small-text mb-2 answers">
          <summary>
            {answers.length} labelled answer{answers.length > 1 && "s"} here
          </summary>
          {answers.map((answer) => (
            <div key={`${answer.question}-${answer.start}`}>
              <a
                href={addressOf(workspace, `/line/documents?q=${answer.question}`)}
                onClick={(event) => {
                  event.preventDefault();
                  go({ pin: { question: answer.question, text: null } });
                }}
              >
                {answer.text}
              </a>{" "}
              {answer.start !== null && (
                <Button
                  size="sm"
                  variant="link"
                  className="p-0 small-text"
                  onClick={() => moved(answer.start!)}
                >
                  show
                </Button>
              )}
            </div>
          ))}
        </details>
      )}
      {chosen && (
        <div className="notice small-text split-here">
          <span className="text-truncate">“{chosen.text}”</span>
          {[1, 2, 3].map((level) => (
            <Button
              key={level}
              size="sm"
              variant="outline-primary"
              onClick={() => {
                correct.mutate({ start: chosen.start, action: "split", value: level, heading: chosen.text });
                setChosen(null);
              }}
            >
              Begin a section, level {level}
            </Button>
          ))}
        </div>
      )}
      <Reader document={document} marks={marks} show={show} dropped={dropped} />
    </div>
  );
}
