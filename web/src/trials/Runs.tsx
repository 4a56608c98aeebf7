// Rankings from elsewhere among the recipes: a TREC run is brought in, measured again, removed.
import { useId } from "react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { client, done, sendForm, unwrap } from "../api/client";
import { useMay, useWorkspace } from "../shell/workspace";

/** A change of runs; the comparison is read again after it. */
function useRunChange<T>(change: (workspace: number, given: T) => Promise<unknown>) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (given: T) => change(workspace, given),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["comparison"] }),
  });
}

export function AddRun() {
  const mayEdit = useMay("editor");
  const id = useId();
  const add = useRunChange((workspace, file: File) => {
    const form = new FormData();
    form.append("file", file);
    return sendForm(`/api/workspaces/${workspace}/runs`, form);
  });
  if (!mayEdit) return null;
  return (
    <span className="small-text d-inline-flex align-items-center gap-2">
      <label
        htmlFor={id}
        className={`btn btn-sm btn-outline-primary ${add.isPending ? "disabled" : ""}`}
        title="A TREC run: lines of question, Q0, item, rank, score and tag. An item is a document, or document:start-end in characters."
      >
        {add.isPending ? "Measuring" : "Add a run from elsewhere"}
      </label>
      <input
        id={id}
        type="file"
        className="visually-hidden"
        aria-label="A TREC run from elsewhere"
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) add.mutate(file);
          event.target.value = "";
        }}
      />
      {add.error && <span className="lost">{add.error.message}</span>}
    </span>
  );
}

export function RunName({ run, name, earlier }: { run: number; name: string; earlier: boolean }) {
  const mayEdit = useMay("editor");
  const again = useRunChange((workspace, number: number) =>
    unwrap(
      client.POST("/api/workspaces/{workspace}/runs/{run}", { params: { path: { workspace, run: number } } }),
    ),
  );
  const remove = useRunChange((workspace, number: number) =>
    done(
      client.DELETE("/api/workspaces/{workspace}/runs/{run}", {
        params: { path: { workspace, run: number } },
      }),
    ),
  );
  return (
    <>
      <strong>{name}</strong> <span className="soft small-text">from elsewhere</span>
      {earlier && (
        <span className="lost small-text d-block">documents, labels or measures have changed since</span>
      )}
      {mayEdit && (
        <span className="small-text">
          {earlier && (
            <button type="button" className="btn btn-link btn-sm p-0 ms-2" onClick={() => again.mutate(run)}>
              measure again
            </button>
          )}
          <button
            type="button"
            className="btn btn-link btn-sm p-0 ms-2"
            aria-label={`Remove ${name}`}
            onClick={() => remove.mutate(run)}
          >
            remove
          </button>
        </span>
      )}
      {(again.error ?? remove.error) && (
        <span className="lost small-text d-block">{(again.error ?? remove.error)!.message}</span>
      )}
    </>
  );
}
