// Workspaces that were removed lately, each with a way back.
import { Button } from "react-bootstrap";
import { addressOf } from "../shell/workspace";
import { useBringBack, useRemovedWorkspaces } from "./api";
import { counted } from "../text/numbers";

export function BringBack() {
  const removed = useRemovedWorkspaces();
  const back = useBringBack();
  if (!removed.data?.length) return null;
  return (
    <section>
      <h3>Removed in the last week</h3>
      {removed.data.map((one) => (
        <div key={one.id} className="d-flex gap-2 align-items-center small-text">
          <span>{one.name}</span>
          <span className="soft">
            {counted(one.documents, "document")}, removed{" "}
            {new Date(one.removed_at!).toLocaleDateString("en-GB", { day: "numeric", month: "long" })}
          </span>
          <Button
            size="sm"
            variant="outline-primary"
            className="ms-auto"
            onClick={() =>
              back.mutate(one.id, { onSuccess: (found) => window.location.assign(addressOf(found.id)) })
            }
          >
            Bring it back
          </Button>
        </div>
      ))}
      {back.error && <div className="lost small-text">{back.error.message}</div>}
    </section>
  );
}
