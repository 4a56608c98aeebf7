// A name is all that a new workspace takes.
import { useState } from "react";
import { Button, Form } from "react-bootstrap";
import { addressOf } from "../shell/workspace";
import { useMakeWorkspace } from "./api";

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
