// Which stretches of the documents have answers, and which are never asked about.
import { useMemo, useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { allPages, client, unwrap, type Schemas } from "../api/client";
import { Segments } from "../shell/Segments";
import { Empty, Shown } from "../shell/states";
import { useWorkspace } from "../shell/workspace";
import { counted, percent } from "../text/numbers";

type Row = Schemas["Coverage"];
type Order = "gaps" | "most" | "name";
const MOST_SHOWN = 400;

function useCoverage() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["question-coverage", workspace],
    queryFn: () =>
      allPages((after?: Row) =>
        unwrap(
          client.GET("/api/workspaces/{workspace}/question-coverage", {
            params: { path: { workspace }, query: { after: after?.id } },
          }),
        ),
      ),
  });
}

/** Characters that no answer begins near: stretches without one. */
const gap = (row: Row) =>
  row.sections.reduce((sum, { answers, start, end }) => sum + (answers ? 0 : end - start), 0);

/** A few steps of one colour, so that they can be told apart. */
const step = (answers: number) => Math.min(answers, 4);

export function Coverage() {
  return (
    <Shown query={useCoverage()} what="Counting answers">
      {(rows) =>
        rows.length ? (
          <Map rows={rows} />
        ) : (
          <Empty title="No documents yet">
            Bring in documents; here you see what of them is asked about.
          </Empty>
        )
      }
    </Shown>
  );
}

function Map({ rows }: { rows: Row[] }) {
  const [order, setOrder] = useState<Order>("gaps");
  const sections = rows.flatMap((row) => row.sections);
  const with_ = sections.filter(({ answers }) => answers > 0).length;
  const asked = rows.filter(({ questions }) => questions > 0).length;
  const shown = useMemo(() => {
    const found = [...rows];
    if (order === "name") found.sort((a, b) => a.title.localeCompare(b.title));
    else if (order === "most") found.sort((a, b) => b.questions - a.questions || b.length - a.length);
    else found.sort((a, b) => gap(b) - gap(a));
    return found.slice(0, MOST_SHOWN);
  }, [rows, order]);
  const longest = Math.max(...rows.map(({ length }) => length), 1);
  return (
    <div className="coverage-map">
      <div className="d-flex align-items-center gap-3 mb-2">
        <h2 className="text-nowrap">What is asked about</h2>
        <span className="soft small-text">
          {asked} of {counted(rows.length, "document")} and {percent(with_ / Math.max(sections.length, 1))} of{" "}
          {counted(sections.length, "stretch").replace("stretchs", "stretches")} between headings have an
          answer.
        </span>
        <span className="ms-auto" />
        <Segments
          options={[
            ["gaps", "largest gaps first"],
            ["most", "most asked first"],
            ["name", "by title"],
          ]}
          value={order}
          choose={setOrder}
        />
      </div>
      <div className="legend small-text soft">
        answers in a stretch of text:
        {[0, 1, 2, 3, 4].map((value) => (
          <span key={value}>
            <i data-answers={value} /> {value === 4 ? "4 or more" : value}
          </span>
        ))}
      </div>
      <div className="covered soft">
        <span>Document</span>
        <span className="text-end">Asked</span>
        <span>Its text from start to end, as long as it is; hover for headings</span>
      </div>
      {shown.map((row) => (
        <div key={row.id} className="covered" data-document={row.id}>
          <Link to={`/line/documents?doc=${row.id}`} className="text-truncate" title={row.title}>
            {row.title}
          </Link>
          <span className={`num text-end ${row.questions ? "" : "lost"}`}>{row.questions || "none"}</span>
          <span className="strip" style={{ width: `${Math.max((100 * row.length) / longest, 3)}%` }}>
            {row.sections.map((section) => (
              <i
                key={section.start}
                data-answers={step(section.answers)}
                style={{ flexGrow: section.end - section.start }}
                title={`${section.title || row.title}: ${counted(section.answers, "answer")}`}
              />
            ))}
          </span>
        </div>
      ))}
      {rows.length > shown.length && (
        <p className="soft small-text">and {rows.length - shown.length} more documents</p>
      )}
    </div>
  );
}
