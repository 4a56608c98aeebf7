// What a job measures: the button that starts it, its progress, and then the picture.
import type { ReactNode } from "react";
import { Button } from "react-bootstrap";
import type { UseMutationResult } from "@tanstack/react-query";
import type { Job } from "../../api/client";
import { running } from "../../api/queries";
import { JobBar } from "../../shell/JobBar";

export function Measured({
  job,
  there,
  start,
  title,
  button,
  why,
  children,
}: {
  job: Job | null;
  there: boolean;
  start: UseMutationResult<unknown, Error, void>;
  title: string;
  button: string;
  why: ReactNode;
  /** Shown once there is something; `again` measures anew and is null while a job does. */
  children: (again: (() => void) | null) => ReactNode;
}) {
  const busy = running(job);
  return (
    <>
      {job && (busy || job.state === "failed") && <JobBar job={job} />}
      {there ? (
        children(busy ? null : () => start.mutate())
      ) : (
        <div className="state">
          <strong>{title}</strong>
          <span style={{ maxWidth: "36rem" }}>{why}</span>
          {!busy && (
            <Button size="sm" onClick={() => start.mutate()} disabled={start.isPending}>
              {button}
            </Button>
          )}
        </div>
      )}
    </>
  );
}
