// What long work is doing: progress, rate, time left, and a way to stop it.
import { Button } from "react-bootstrap";
import { running, useCancelJob, useStartTrial } from "../api/queries";
import type { Job } from "../api/client";
import { duration } from "../text/numbers";
import { Progress } from "./Progress";

export function JobBar({ job }: { job: Job }) {
  const cancel = useCancelJob();
  const again = useStartTrial();
  const busy = running(job);
  const share = job.total ? (100 * job.done) / job.total : 0;
  return (
    <div className={`job ${job.state === "failed" ? "failed" : ""}`} role="status" data-job={job.state}>
      <div>
        <strong>{job.title}</strong>{" "}
        <span className="soft num">
          {job.state === "queued" && "waits for the worker"}
          {job.state === "running" &&
            (job.step
              ? `${job.step}: ${job.done.toLocaleString()} of ${job.total.toLocaleString()} ${job.unit}` +
                (job.rate ? `, ${job.rate.toFixed(job.rate < 10 ? 1 : 0)} a second` : "") +
                (job.seconds_left !== null ? `, ${duration(job.seconds_left)} left` : "")
              : "starting")}
          {!busy && job.message}
        </span>
      </div>
      {busy ? (
        <Button
          size="sm"
          variant="outline-danger"
          disabled={job.cancel_requested}
          onClick={() => cancel.mutate(job.id)}
        >
          {job.cancel_requested ? "Stopping" : "Cancel"}
        </Button>
      ) : (
        job.recipe !== null && (
          <Button size="sm" variant="outline-primary" onClick={() => again.mutate(job.recipe!)}>
            Run again
          </Button>
        )
      )}
      {busy && <Progress percent={share} what={job.title} style={{ height: 6, gridColumn: "1 / -1" }} />}
    </div>
  );
}
