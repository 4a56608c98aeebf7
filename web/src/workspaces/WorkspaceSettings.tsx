// What a workspace is called and holds, who is in it, one's own password, and the way out.
import { useState } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { Shown } from "../shell/states";
import { useMay, useOwnWorkspace } from "../shell/workspace";
import { useHoldings, useRemoveWorkspace, useRename, useSetPassword } from "./api";
import { Members } from "./Members";

export function WorkspaceSettings({ close }: { close: () => void }) {
  const owner = useMay("owner");
  return (
    <Modal show onHide={close} size="lg" aria-labelledby="workspace-settings" scrollable>
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="workspace-settings">
          Members and settings
        </Modal.Title>
      </Modal.Header>
      <Modal.Body className="d-grid gap-4">
        <Members />
        {owner && <Name />}
        <Password />
        {owner && <Remove />}
      </Modal.Body>
    </Modal>
  );
}

function Name() {
  const own = useOwnWorkspace();
  const [name, setName] = useState(own.name);
  const rename = useRename();
  return (
    <Form
      onSubmit={(event) => {
        event.preventDefault();
        rename.mutate(name);
      }}
    >
      <h3>Name</h3>
      <div className="d-flex gap-2">
        <Form.Control
          size="sm"
          value={name}
          maxLength={120}
          aria-label="Name of the workspace"
          onChange={(event) => setName(event.target.value)}
        />
        <Button size="sm" type="submit" disabled={!name.trim() || name === own.name || rename.isPending}>
          Rename
        </Button>
      </div>
      {rename.error && <div className="lost small-text">{rename.error.message}</div>}
    </Form>
  );
}

function Password() {
  const [password, setPassword] = useState("");
  const [present, setPresent] = useState("");
  const set = useSetPassword();
  return (
    <Form
      onSubmit={(event) => {
        event.preventDefault();
        set.mutate(
          { password, present },
          {
            onSuccess: () => {
              setPassword("");
              setPresent("");
            },
          },
        );
      }}
    >
      <h3>Your password</h3>
      <div className="d-flex gap-2">
        <Form.Control
          size="sm"
          type="password"
          autoComplete="current-password"
          placeholder="The present one, if you have one"
          aria-label="Present password"
          value={present}
          onChange={(event) => setPresent(event.target.value)}
        />
        <Form.Control
          size="sm"
          type="password"
          autoComplete="new-password"
          placeholder="New password, 8 characters or more"
          aria-label="New password"
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
        <Button size="sm" type="submit" disabled={!password || set.isPending}>
          Set
        </Button>
      </div>
      <div className="small-text" role="status">
        {set.error && <span className="lost">{set.error.message}</span>}
        {set.isSuccess && !password && <span className="soft">Set. Other sessions of yours are ended.</span>}
      </div>
    </Form>
  );
}

function Remove() {
  const held = useHoldings();
  const remove = useRemoveWorkspace();
  const [sure, setSure] = useState(false);
  return (
    <section>
      <h3>Remove this workspace</h3>
      <Shown query={held} what="Counting">
        {({ holds }) => (
          <div className="small-text">
            It holds{" "}
            {["documents", "questions", "labels", "recipes", "trials"]
              .map((name) => `${(holds[name] ?? 0).toLocaleString()} ${name}`)
              .join(", ")}
            . Its owners can bring it back for a week; then all of it is gone.
          </div>
        )}
      </Shown>
      <Button
        size="sm"
        variant="outline-danger"
        className="mt-1"
        disabled={remove.isPending || !held.data}
        onClick={() =>
          sure ? remove.mutate(undefined, { onSuccess: () => window.location.assign("/") }) : setSure(true)
        }
      >
        {sure ? "Remove it with all that it holds" : "Remove"}
      </Button>
      {remove.error && <div className="lost small-text">{remove.error.message}</div>}
    </section>
  );
}
