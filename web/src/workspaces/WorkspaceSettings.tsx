// What a workspace is called and holds, who is in it, one's own password, and the way out.
import { useState } from "react";
import { Button, Form, Modal } from "react-bootstrap";
import { Shown } from "../shell/states";
import { addressOf, useMay, useOwnWorkspace } from "../shell/workspace";
import {
  useCopyWorkspace,
  useEmptyWorkspace,
  useHoldings,
  useRemoveWorkspace,
  useRename,
  useSetPassword,
} from "./api";
import { Members } from "./Members";

export function WorkspaceSettings({ close }: { close: () => void }) {
  const owner = useMay("owner");
  const editor = useMay("editor");
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
        {editor && <Elsewhere />}
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

/** The workspace as a file, and a copy of it here. */
function Elsewhere() {
  const own = useOwnWorkspace();
  const copy = useCopyWorkspace();
  const [name, setName] = useState("");
  return (
    <Form
      onSubmit={(event) => {
        event.preventDefault();
        copy.mutate(name, { onSuccess: (made) => window.location.assign(addressOf(made.id)) });
      }}
    >
      <h3>Take it elsewhere, or copy it</h3>
      <div className="d-flex gap-2 align-items-center">
        <a className="btn btn-sm btn-outline-primary text-nowrap" href={`/api/workspaces/${own.id}/export`}>
          Export as a file
        </a>
        <Form.Control
          size="sm"
          value={name}
          maxLength={120}
          placeholder={`Name of a copy, such as ${own.name} 2`}
          aria-label="Name of the copy"
          onChange={(event) => setName(event.target.value)}
        />
        <Button
          size="sm"
          type="submit"
          variant="outline-primary"
          disabled={!name.trim() || copy.isPending || copy.isSuccess}
        >
          {copy.isPending ? "Copying" : "Copy"}
        </Button>
      </div>
      <div className="small-text soft">
        Both hold documents with their files, questions, labels, recipes, trials and pools. A file is read
        under New workspace, here or where else Doppio runs.
      </div>
      {copy.error && <div className="lost small-text">{copy.error.message}</div>}
    </Form>
  );
}

function Remove() {
  const held = useHoldings();
  const remove = useRemoveWorkspace();
  const empty = useEmptyWorkspace();
  const [sure, setSure] = useState<"" | "empty" | "remove">("");
  return (
    <section>
      <h3>Empty or remove this workspace</h3>
      <Shown query={held} what="Counting">
        {({ holds }) => (
          <div className="small-text">
            It holds{" "}
            {["documents", "questions", "labels", "recipes", "trials"]
              .map((name) => `${(holds[name] ?? 0).toLocaleString()} ${name}`)
              .join(", ")}
            . Emptied it begins anew with its name, members and recipes. Its owners can bring back what was
            for a week; then all of it is gone.
          </div>
        )}
      </Shown>
      <div className="d-flex gap-2 mt-1">
        <Button
          size="sm"
          variant="outline-danger"
          disabled={empty.isPending || !held.data}
          onClick={() =>
            sure === "empty"
              ? empty.mutate(undefined, {
                  onSuccess: (made) => window.location.assign(addressOf(made.id, "/begin")),
                })
              : setSure("empty")
          }
        >
          {sure === "empty" ? "Empty it of all that it holds" : "Empty"}
        </Button>
        <Button
          size="sm"
          variant="outline-danger"
          disabled={remove.isPending || !held.data}
          onClick={() =>
            sure === "remove"
              ? remove.mutate(undefined, { onSuccess: () => window.location.assign("/") })
              : setSure("remove")
          }
        >
          {sure === "remove" ? "Remove it with all that it holds" : "Remove"}
        </Button>
      </div>
      {(remove.error ?? empty.error) && (
        <div className="lost small-text">{(remove.error ?? empty.error)!.message}</div>
      )}
    </section>
  );
}
