// The outline of a document: a way through it, and the place where its sections are corrected.
import { useState } from "react";
import { Button, Dropdown, Form } from "react-bootstrap";
import type { DocumentText, Section } from "../../api/client";
import { useCorrectOutline } from "./api";

export function OutlineList({
  document,
  go,
  current,
}: {
  document: DocumentText;
  go: (offset: number) => void;
  current: number;
}) {
  const [editing, setEditing] = useState<number | null>(null);
  const correct = useCorrectOutline(document.id);
  const doubtful = document.sections.filter((section) => section.doubts.length);
  const here = document.sections.reduce(
    (found, section, row) => (section.start <= current ? row : found),
    -1,
  );
  return (
    <nav className="outline" aria-label="Outline">
      <div className="outline-head small-text">
        <strong>Outline</strong>
        {doubtful.length > 0 && (
          <button type="button" className="doubt-count" onClick={() => go(doubtful[0]!.start)}>
            {doubtful.length} to check
          </button>
        )}
      </div>
      {document.sections.length === 0 && (
        <p className="small-text soft">
          No headings were found. Select words in the text to begin a section there.
        </p>
      )}
      {document.sections.map((section, row) => (
        <div key={section.start} className={`entry ${row === here ? "here" : ""}`}>
          <button
            type="button"
            className={`title ${section.dropped ? "dropped" : ""}`}
            style={{ paddingLeft: `${0.75 * (section.level - 1)}rem` }}
            onClick={() => go(section.start)}
            title={section.page ? `page ${section.page}` : undefined}
          >
            {section.number} {section.title}
          </button>
          <SectionMenu section={section} correct={correct.mutate} edit={() => setEditing(section.start)} />
          {section.doubts.length > 0 && <div className="doubt">{section.doubts.join("; ")}</div>}
          {editing === section.start && (
            <TitleForm
              section={section}
              close={() => setEditing(null)}
              save={(value) => correct.mutate({ start: section.start, action: "title", value })}
            />
          )}
        </div>
      ))}
      {correct.error && (
        <div
          className="notice small-text"
          style={{ "--tone": "var(--lost)" } as React.CSSProperties}
          role="alert"
        >
          {correct.error.message}
        </div>
      )}
      {document.corrections.length > 0 && (
        <p className="small-text soft mt-2 mb-0">
          {document.corrections.length} corrected by hand; kept when the file changes.
        </p>
      )}
    </nav>
  );
}

function SectionMenu({
  section,
  correct,
  edit,
}: {
  section: Section;
  correct: ReturnType<typeof useCorrectOutline>["mutate"];
  edit: () => void;
}) {
  const level = (value: number) => correct({ start: section.start, action: "level", value });
  return (
    <Dropdown align="end">
      <Dropdown.Toggle size="sm" variant="link" aria-label={`Correct ${section.title}`} />
      <Dropdown.Menu className="small-text" renderOnMount={false} popperConfig={{ strategy: "fixed" }}>
        <Dropdown.Item onClick={edit}>Other title…</Dropdown.Item>
        <Dropdown.Item disabled={section.level <= 1} onClick={() => level(section.level - 1)}>
          One level up
        </Dropdown.Item>
        <Dropdown.Item disabled={section.level >= 9} onClick={() => level(section.level + 1)}>
          One level down
        </Dropdown.Item>
        <Dropdown.Item onClick={() => correct({ start: section.start, action: "join", value: null })}>
          No heading: join with the section before
        </Dropdown.Item>
        <Dropdown.Item onClick={() => correct({ start: section.start, action: "drop", value: null })}>
          Leave the section out of chunks
        </Dropdown.Item>
        <Dropdown.Divider />
        <Dropdown.Item onClick={() => correct({ start: section.start, action: "undo", value: null })}>
          As it was found
        </Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  );
}

function TitleForm({
  section,
  save,
  close,
}: {
  section: Section;
  save: (value: string) => void;
  close: () => void;
}) {
  const [text, setText] = useState(`${section.number} ${section.title}`.trim());
  return (
    <Form
      className="d-flex gap-1 my-1"
      onSubmit={(event) => {
        event.preventDefault();
        save(text);
        close();
      }}
    >
      <Form.Control
        size="sm"
        autoFocus
        aria-label="Title"
        value={text}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && close()}
      />
      <Button size="sm" type="submit">
        Set
      </Button>
    </Form>
  );
}
