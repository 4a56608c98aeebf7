// A recipe version leaves the workbench: it gets a name that assistants ask.
import { useState, type FormEvent } from "react";
import { Button } from "react-bootstrap";
import { useLine } from "../api/queries";
import { Empty } from "../shell/states";
import { useMay } from "../shell/workspace";
import { usePublish } from "./api";
import { VersionChoice } from "./VersionChoice";

export function Publish({ close, made }: { close?: () => void; made: (name: string) => void }) {
  const line = useLine();
  const [name, setName] = useState("");
  const [chosen, setChosen] = useState<number | null>(null);
  const publish = usePublish();
  const recipe = chosen ?? line.data?.recipe.id ?? null;
  if (!useMay("owner"))
    return (
      <Empty title="Nothing is served yet">
        An owner of this workspace can publish a recipe version under a name; assistants then ask it with a
        key.
      </Empty>
    );
  const send = (event: FormEvent) => {
    event.preventDefault();
    if (recipe !== null) publish.mutate({ name, recipe }, { onSuccess: () => made(name) });
  };
  return (
    <form className="publish" aria-label="Publish" onSubmit={send}>
      <h2>Publish a recipe</h2>
      <p className="soft">
        A version gets a name. Assistants ask that name with a key of their own, and get what was measured
        here: the same passages, scores and citations. Another version can take over later without a lost
        answer.
      </p>
      <div className="fields">
        <label>
          Name{" "}
          <input
            className="form-control form-control-sm mono"
            value={name}
            maxLength={60}
            placeholder="service-desk"
            required
            pattern="[a-z0-9]([a-z0-9\-]*[a-z0-9])?"
            title="small letters, digits and hyphens"
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <VersionChoice label="Version" value={recipe} choose={setChosen} />
        <Button size="sm" type="submit" disabled={publish.isPending || recipe === null}>
          Publish
        </Button>
        {close && (
          <Button size="sm" variant="outline-primary" onClick={close}>
            Cancel
          </Button>
        )}
      </div>
      {publish.error && (
        <p className="lost small-text" role="alert">
          {publish.error.message}
        </p>
      )}
      <p className="small-text soft mono">
        POST {`${window.location.origin}/serve/${name || "NAME"}/search`}
      </p>
    </form>
  );
}
