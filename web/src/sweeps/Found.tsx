// What a sweep found: the choice with what it is worth, a map of two settings, each setting alone, and the list.
import { useState } from "react";
import { Button } from "react-bootstrap";
import { useNavigate } from "react-router";
import { running } from "../api/queries";
import { useSaveRecipe } from "../recipe/api";
import { JobBar } from "../shell/JobBar";
import { Shown } from "../shell/states";
import { useMay } from "../shell/workspace";
import { chance, signed } from "../trials/api";
import { counted, score } from "../text/numbers";
import {
  mean,
  useGoOn,
  useRemoveSweep,
  useSweep,
  useSweptRecipe,
  valued,
  type Swept,
  type SweepRow,
} from "./api";
import { HeatMap } from "./HeatMap";
import { Strips } from "./Strips";

const SHOWN = 12;

export function Found({ sweep }: { sweep: number }) {
  const found = useSweep(sweep);
  const [picked, setPicked] = useState<number | null>(null);
  return (
    <Shown query={found} what="Reading the sweep">
      {(data) => {
        const row = data.rows.find(({ place }) => place === picked) ?? chosenOf(data);
        return (
          <>
            <Head data={data} />
            {data.chosen && <Verdict data={data} />}
            {row && <Row data={data} row={row} />}
            {data.rows.length > 1 && (
              <div className="pictures">
                {data.moved.length > 1 && data.by !== "random" && (
                  <HeatMap data={data} row={row!} pick={setPicked} />
                )}
                <Strips data={data} row={row!} />
              </div>
            )}
            <List data={data} row={row} pick={setPicked} />
          </>
        );
      }}
    </Shown>
  );
}

/** The settings that the sweep would take; while it runs, the best so far. */
const chosenOf = (data: Swept): SweepRow | undefined =>
  data.chosen
    ? data.rows.find(({ place }) => place === data.chosen!.chosen)
    : [...data.rows].sort((a, b) => (b.mean ?? -1) - (a.mean ?? -1))[0];

function Head({ data }: { data: Swept }) {
  const goOn = useGoOn(data.id);
  const go = useNavigate();
  const remove = useRemoveSweep(() => void go("/trials/sweeps"));
  const mayEdit = useMay("editor");
  const busy = running(data.job);
  return (
    <>
      <div className="d-flex flex-wrap align-items-baseline gap-3">
        <h2>
          {data.figure} <span className="soft fw-normal">over the settings of</span> {data.recipe.name} v
          {data.recipe.version}
        </h2>
        <span className="soft small-text num">
          {counted(data.settings, "setting")}, {counted(data.questions, "question")}; larger is better
        </span>
        {mayEdit && (
          <span className="ms-auto d-flex gap-2">
            {!busy && !data.chosen && data.current && (
              <Button size="sm" disabled={goOn.isPending} onClick={() => goOn.mutate()}>
                Go on
              </Button>
            )}
            <Button
              size="sm"
              variant="outline-danger"
              disabled={remove.isPending}
              onClick={() => remove.mutate(data.id)}
            >
              Remove
            </Button>
          </span>
        )}
      </div>
      {!data.current && (
        <p className="notice small-text">
          Documents or labels have changed since: these figures stand for the earlier ones.
        </p>
      )}
      {data.job && (busy || data.job.state === "failed") && <JobBar job={{ ...data.job, recipe: null }} />}
      {!busy && !data.chosen && data.job?.state === "cancelled" && (
        <p className="notice small-text">
          Cancelled after {data.tried} of {counted(data.settings, "setting")}; going on begins there.
        </p>
      )}
      {goOn.error && <p className="lost small-text">{goOn.error.message}</p>}
    </>
  );
}

/** The flattering figure, and the honest one. */
function Verdict({ data }: { data: Swept }) {
  const { flattering, honest, against, said, picked } = data.chosen!;
  const different = new Set(picked).size;
  const now = data.rows.find(({ place }) => place === 0)?.mean ?? null;
  return (
    <>
      <dl className="verdict num">
        <div>
          <dt>now</dt>
          <dd>{mean(now)}</dd>
        </div>
        <div>
          <dt>chosen, on the questions it was chosen by</dt>
          <dd>{score(flattering)}</dd>
        </div>
        <div>
          <dt>chosen, on questions it has not seen</dt>
          <dd>
            <b>{score(honest)}</b>
          </dd>
        </div>
      </dl>
      <p className="small-text num">
        The honest figure is {signed(against.mean)} to now ({signed(against.low)} to {signed(against.high)},{" "}
        {chance(against.p)}):{" "}
        <b className={said === "better" ? "gain" : said === "worse" ? "lost" : ""}>{said}</b>.{" "}
        {different > 1
          ? `${different} different settings were picked as questions were left out, so the choice is not settled.`
          : "The same settings were picked whichever questions were left out."}
      </p>
    </>
  );
}

function Row({ data, row }: { data: Swept; row: SweepRow }) {
  const fetched = useSweptRecipe();
  const save = useSaveRecipe(() => undefined);
  const [wrong, setWrong] = useState("");
  const mayEdit = useMay("editor");
  const take = async () => {
    try {
      const { body } = await fetched(data.id, row.place);
      save.mutate({ body, note: `from a sweep by ${data.figure}` });
    } catch (error) {
      setWrong((error as Error).message);
    }
  };
  return (
    <div className="picked" aria-live="polite">
      <span className="num">
        <b>{row.place === data.chosen?.chosen ? "Chosen" : row.place === 0 ? "Now" : "Picked"}:</b>{" "}
        {data.moved.map(({ path, title }) => `${title} ${valued(row.settings[path])}`).join(", ")} —{" "}
        {mean(row.mean)}
        {row.height !== null && `, ${score(row.height)} with its neighbours`}
        {row.asked < data.questions && `, asked ${counted(row.asked, "question")}`}
      </span>
      {mayEdit && row.place !== 0 && (
        <Button size="sm" disabled={save.isPending || save.isSuccess} onClick={() => void take()}>
          {save.isSuccess ? "In force" : "Take these settings"}
        </Button>
      )}
      {(wrong || save.error) && <span className="lost small-text">{wrong || save.error?.message}</span>}
    </div>
  );
}

function List({
  data,
  row,
  pick,
}: {
  data: Swept;
  row: SweepRow | undefined;
  pick: (place: number) => void;
}) {
  const [all, setAll] = useState(false);
  const rows = [...data.rows].sort(
    (a, b) => (b.height ?? -1) - (a.height ?? -1) || b.asked - a.asked || (b.mean ?? -1) - (a.mean ?? -1),
  );
  const shown = all ? rows : rows.slice(0, SHOWN);
  if (!rows.length) return null;
  return (
    <>
      <h3 className="mt-3">
        Settings <span className="soft fw-normal">those whose surroundings are best first</span>
      </h3>
      <table className="table table-sm table-hover num list">
        <thead>
          <tr>
            {data.moved.map(({ path, title }) => (
              <th key={path}>{title}</th>
            ))}
            <th className="text-end">{data.figure}</th>
            <th className="text-end" title="The mean over these settings and those one step away">
              with neighbours
            </th>
            <th className="text-end">asked</th>
            <th>
              <span className="visually-hidden">choose</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {shown.map((one) => (
            <tr key={one.place} className={one === row ? "table-active" : ""}>
              {data.moved.map(({ path }) => (
                <td key={path}>{valued(one.settings[path])}</td>
              ))}
              <td className="text-end">{mean(one.mean)}</td>
              <td className="text-end">{mean(one.height)}</td>
              <td className="text-end">{one.asked}</td>
              <td>
                <button
                  type="button"
                  className="btn btn-link btn-sm p-0"
                  aria-pressed={one === row}
                  onClick={() => pick(one.place)}
                >
                  {one.place === data.chosen?.chosen ? "chosen" : one.place === 0 ? "now" : "look"}
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length > SHOWN && (
        <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setAll(!all)}>
          {all ? `The first ${SHOWN}` : `All ${rows.length}`}
        </button>
      )}
    </>
  );
}
