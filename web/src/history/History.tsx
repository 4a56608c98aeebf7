// What people did in the workspace: looked through, and taken back where it can be.
import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { client, done, unwrap, type Schemas } from "../api/client";
import { Empty, Failed, Loading } from "../shell/states";
import { useMay, useWorkspace } from "../shell/workspace";

type Event = Schemas["Event"];
interface Sieve {
  who: string;
  kind: string;
  words: string;
  since: string;
}

function useHistory(sieve: Sieve) {
  const workspace = useWorkspace();
  return useInfiniteQuery({
    queryKey: ["history", workspace, sieve],
    queryFn: ({ pageParam }) =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/events", {
          params: {
            path: { workspace },
            query: {
              before: pageParam ?? undefined,
              who: sieve.who || undefined,
              kind: sieve.kind || undefined,
              words: sieve.words || undefined,
              since: sieve.since || undefined,
            },
          },
        }),
      ),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => page.before,
    placeholderData: (before) => before,
  });
}

function useTakeBack() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (event: number) =>
      done(
        client.POST("/api/workspaces/{workspace}/events/{event}/taken-back", {
          params: { path: { workspace, event } },
        }),
      ),
    // It may have changed anything.
    onSuccess: () => queries.invalidateQueries(),
  });
}

export function History() {
  const [sieve, setSieve] = useState<Sieve>({ who: "", kind: "", words: "", since: "" });
  const history = useHistory(sieve);
  const back = useTakeBack();
  const mayEdit = useMay("editor");
  const put = (change: Partial<Sieve>) => setSieve({ ...sieve, ...change });
  const pages = history.data?.pages ?? [];
  const rows = pages.flatMap(({ events }) => events);
  return (
    <main className="panel history" aria-label="History">
      <div className="d-flex align-items-center gap-2 mb-2">
        <h2 className="me-auto">History</h2>
        <Form.Select
          size="sm"
          aria-label="Who"
          value={sieve.who}
          onChange={(e) => put({ who: e.target.value })}
        >
          <option value="">everybody</option>
          {pages[0]?.people.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </Form.Select>
        <Form.Select
          size="sm"
          aria-label="What"
          value={sieve.kind}
          onChange={(e) => put({ kind: e.target.value })}
        >
          <option value="">all that was done</option>
          {pages[0]?.kinds.map((kind) => (
            <option key={kind}>{kind}</option>
          ))}
        </Form.Select>
        <Form.Control
          size="sm"
          type="search"
          placeholder="Words in it"
          aria-label="Words in it"
          value={sieve.words}
          onChange={(e) => put({ words: e.target.value })}
        />
        <label className="small-text soft text-nowrap">
          since{" "}
          <Form.Control
            size="sm"
            type="date"
            className="d-inline-block w-auto"
            aria-label="Since"
            value={sieve.since}
            onChange={(e) => put({ since: e.target.value })}
          />
        </label>
      </div>
      {back.error && (
        <div className="notice" role="alert" style={{ "--tone": "var(--lost)" } as React.CSSProperties}>
          {back.error.message}
        </div>
      )}
      {history.isPending ? (
        <Loading what="Reading the history" />
      ) : history.error ? (
        <Failed error={history.error} />
      ) : rows.length === 0 ? (
        <Empty title="Nothing like that was done">Choose less, or look for other words.</Empty>
      ) : (
        <Table size="sm" className="align-middle">
          <thead>
            <tr>
              <th>When</th>
              <th>Who</th>
              <th>What</th>
              <th>Of what, and from what to what</th>
              <th>
                <span className="visually-hidden">take back</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map((event) => (
              <tr key={event.id} data-event={event.kind} className={event.taken_back ? "soft" : ""}>
                <td className="num text-nowrap small-text">
                  {new Date(event.at).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })}
                </td>
                <td>{event.name || "nobody"}</td>
                <td className="text-nowrap">{event.kind}</td>
                <td className="w-100 small-text told">{told(event)}</td>
                <td className="text-nowrap text-end small-text">
                  {event.taken_back
                    ? `taken back by ${event.taken_back}`
                    : mayEdit &&
                      event.can_be_taken_back && (
                        <Button
                          size="sm"
                          variant="link"
                          className="p-0"
                          disabled={back.isPending}
                          onClick={() => back.mutate(event.id)}
                        >
                          take back
                        </Button>
                      )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {history.hasNextPage && (
        <Button
          size="sm"
          variant="outline-primary"
          disabled={history.isFetchingNextPage}
          onClick={() => void history.fetchNextPage()}
        >
          Earlier
        </Button>
      )}
    </main>
  );
}

const plain = (value: unknown): string =>
  Array.isArray(value)
    ? value.map(plain).join(" to ") || "nothing"
    : value === null || value === ""
      ? "nothing"
      : value === true
        ? "yes"
        : value === false
          ? "no"
          : typeof value === "object"
            ? Object.entries(value)
                .map(([key, inner]) => `${key} ${plain(inner)}`)
                .join(", ")
            : String(value);

/** What an event is about, in a line: names first, then what was and what is. */
function told(event: Event): string {
  const about = { ...event.about } as Record<string, unknown>;
  delete about["taken back"];
  if ("start" in about) {
    if (about.start !== null) about.characters = [about.start, about.end];
    delete about.start;
    delete about.end;
  }
  const was = about.was as { text?: string } | undefined;
  if (was?.text) about.was = was.text;
  return Object.entries(about)
    .map(([key, value]) => `${key} ${plain(value)}`)
    .join("; ");
}
