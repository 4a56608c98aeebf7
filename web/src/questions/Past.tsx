// A question over its trials: what became of it each time, and what had changed before.
import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { Modal, Table } from "react-bootstrap";
import { client, unwrap, type QuestionRow, type Schemas } from "../api/client";
import { useStamp } from "../api/queries";
import { toneOfCause } from "../shell/pin";
import { Shown } from "../shell/states";
import { useWorkspace } from "../shell/workspace";

/** So many settings are named. */
const SHOWN = 8;

type PastTrial = Schemas["PastTrial"];

function usePast(question: number, open: boolean) {
  const workspace = useWorkspace();
  const stamp = useStamp();
  return useQuery({
    queryKey: ["past trials", workspace, ...stamp, question],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/questions/{question}/trials", {
          params: { path: { workspace, question } },
        }),
      ),
    enabled: open,
  });
}

/** A button that tells what became of the question before. */
export function Past({ row }: { row: QuestionRow }) {
  const [open, setOpen] = useState(false);
  const past = usePast(row.id, open);
  return (
    <>
      <button type="button" className="btn btn-link btn-sm p-0 align-baseline" onClick={() => setOpen(true)}>
        Before
      </button>
      <Modal show={open} onHide={() => setOpen(false)} size="lg" scrollable aria-labelledby="past-trials">
        <Modal.Header closeButton>
          <Modal.Title id="past-trials" as="h2">
            {row.text}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <Shown query={past} what="Reading its trials">
            {(rows) => (rows.length ? <Trials rows={rows} /> : <p>No trial has asked it yet.</p>)}
          </Shown>
        </Modal.Body>
      </Modal>
    </>
  );
}

function Trials({ rows }: { rows: PastTrial[] }) {
  return (
    <>
      <p className="small-text soft">
        Its trials, the latest first: rank of the first relevant chunk at each stage, and what was otherwise
        than in the last trial before of the same recipe, or of any. Smaller ranks are better.
      </p>
      <Table size="sm" className="small-text num">
        <thead>
          <tr>
            <th>Trial</th>
            <th>It was</th>
            <th>Ranks</th>
            <th>What had changed</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.trial} className={row.moved || row.beside === null ? "" : "soft"}>
              <td>
                {row.recipe}
                <div className="soft">{new Date(row.measured_at).toLocaleString()}</div>
              </td>
              <td style={{ color: toneOfCause(row.cause) }}>{row.cause}</td>
              <td>
                <Ranks now={row.ranks} before={row.ranks_before} />
              </td>
              <td>
                <Changed row={row} />
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

function Ranks({ now, before }: { now: PastTrial["ranks"]; before: PastTrial["ranks"] }) {
  return (
    <>
      {Object.entries(now).map(([stage, rank]) => {
        const was = before[stage];
        const other = stage in before && was !== rank;
        return (
          <div key={stage} className="text-nowrap">
            {stage} {other && <span className="soft">{was ?? "none"} → </span>}
            {other ? <strong>{rank ?? "none"}</strong> : (rank ?? "none")}
          </div>
        );
      })}
    </>
  );
}

function Changed({ row }: { row: PastTrial }) {
  if (row.beside === null) return <span className="soft">its first trial</span>;
  const others = [
    row.documents && "documents",
    row.labels && "labels",
    row.code && "the program or a model",
  ].filter(Boolean);
  const more = row.settings.length - SHOWN;
  return (
    <>
      <div className="soft">beside {row.beside}</div>
      {!row.settings.length && !others.length && <span className="soft">nothing that is known</span>}
      {row.settings.slice(0, SHOWN).map((one) => (
        <div key={one.path}>
          <span className="mono">{one.path}</span> {told(one.before)} → <strong>{told(one.now)}</strong>
        </div>
      ))}
      {more > 0 && <div>and {more} more</div>}
      {others.length > 0 && <div>{others.join(", ")}</div>}
    </>
  );
}

/** A value as it stands in a recipe, a part of one by its kind. */
function told(value: unknown): string {
  if (value === null || value === undefined) return "none";
  if (typeof value !== "object") return String(value);
  const part = value as Record<string, unknown>;
  const named = part.kind ?? part.scorer ?? part.rule ?? part.method;
  return named === undefined ? JSON.stringify(value).slice(0, 60) : String(named);
}
