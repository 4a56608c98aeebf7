// Loading, failed and empty are designed states, the same everywhere.
import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { ApiError } from "../api/client";
import { running, useLine, useStartTrial } from "../api/queries";
import { Button, Spinner } from "react-bootstrap";

export function Loading({ what }: { what: string }) {
  return (
    <div className="state" role="status">
      <Spinner animation="border" size="sm" />
      <span>{what}</span>
    </div>
  );
}

/** Indexes are missing or damaged: what the server says of it, and the button that mends it. */
export function NotBuilt({ detail }: { detail: string }) {
  const line = useLine();
  const start = useStartTrial();
  const busy = running(line.data?.job);
  return (
    <div className="state">
      <strong>Not built</strong>
      <span style={{ maxWidth: "34rem" }}>{detail}</span>
      {line.data && !busy && (
        <Button size="sm" variant="outline-primary" onClick={() => start.mutate(line.data.recipe.id)}>
          Build and measure
        </Button>
      )}
      {busy && <span>It is being built; the line shows how far it is.</span>}
    </div>
  );
}

/** Figures of a trial: they stand here once the recipe in force is measured; until then, what is going on. */
export function Measured({ children }: { children: ReactNode }) {
  const line = useLine();
  const start = useStartTrial();
  if (!line.data) return <Loading what="Reading the line" />;
  if (line.data.trial !== null) return <>{children}</>;
  const busy = running(line.data.job);
  return (
    <div className="state">
      <strong>
        {!busy
          ? "Not measured yet"
          : line.data.job?.state === "queued"
            ? "Waits to be measured"
            : "Being measured"}
      </strong>
      <span style={{ maxWidth: "34rem" }}>
        {busy
          ? "The labelled questions are asked once the recipe is built; the bar under the line shows how far it is. Then the figures stand here."
          : "These figures come from asking all labelled questions with the recipe in force."}
      </span>
      {!busy && (
        <Button size="sm" variant="outline-primary" onClick={() => start.mutate(line.data.recipe.id)}>
          Build and measure
        </Button>
      )}
    </div>
  );
}

export function Failed({ error, again }: { error: Error; again?: () => void }) {
  if (error instanceof ApiError && error.status === 409) return <NotBuilt detail={error.message} />;
  return (
    <div className="state" role="alert">
      <strong className="lost">This could not be shown</strong>
      <span style={{ maxWidth: "34rem" }}>{error.message}</span>
      {again && (
        <Button size="sm" variant="outline-primary" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}

export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="state">
      <strong>{title}</strong>
      <span style={{ maxWidth: "34rem" }}>{children}</span>
    </div>
  );
}

/** Shows a query's data once it is there, and its other states until then. */
export function Shown<T>({
  query,
  what,
  children,
}: {
  query: UseQueryResult<T, Error>;
  what: string;
  children: (data: T) => ReactNode;
}) {
  if (query.data !== undefined) return <>{children(query.data)}</>;
  if (query.error) return <Failed error={query.error} again={() => void query.refetch()} />;
  return <Loading what={what} />;
}
