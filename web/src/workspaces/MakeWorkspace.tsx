// A name is all that a new workspace takes.
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { addressOf } from "../shell/workspace";
import { useImportWorkspace, useMakeWorkspace } from "./api";

export function MakeWorkspace() {
  const [name, setName] = useState("");
  const make = useMakeWorkspace();
  return (
    <Form
      className="make-workspace"
      onSubmit={(event) => {
        event.preventDefault();
        make.mutate(name, { onSuccess: (made) => window.location.assign(addressOf(made.id, "/begin")) });
      }}
    >
      <Form.Control
        autoFocus
        value={name}
        maxLength={120}
        placeholder="Name, such as the documents it is for"
        aria-label="Name of the new workspace"
        onChange={(event) => setName(event.target.value)}
      />
      <Button type="submit" disabled={!name.trim() || make.isPending || make.isSuccess}>
        Make it
      </Button>
      {make.error && <div className="lost small-text">{make.error.message}</div>}
    </Form>
  );
}

/** One that was exported elsewhere, or here. */
export function ReadWorkspace() {
  const read = useImportWorkspace();
  return (
    <Form.Group controlId="workspace-file">
      <Form.Label>Or read one from a file that was exported</Form.Label>
      <Form.Control
        type="file"
        accept=".zip"
        disabled={read.isPending || read.isSuccess}
        onChange={(event) => {
          const file = (event.target as HTMLInputElement).files?.[0];
          if (file) read.mutate(file, { onSuccess: (made) => window.location.assign(addressOf(made.id)) });
        }}
      />
      {read.isPending && <div className="soft small-text">Reading it; all of it comes in, or nothing.</div>}
      {read.error && <div className="lost small-text">{read.error.message}</div>}
    </Form.Group>
  );
}
