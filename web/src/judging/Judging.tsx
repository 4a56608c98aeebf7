// Pools: what several recipes found first, judged without knowing which of them found it.
import { useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { useNavigate, useParams } from "react-router";
import { running, useNewestJob } from "../api/queries";
import { useQuestionSets } from "../questions/sets";
import { useRecipes } from "../recipe/api";
import { JobBar } from "../shell/JobBar";
import { Empty, Shown } from "../shell/states";
import { useMay } from "../shell/workspace";
import { percent } from "../text/numbers";
import { Agreement } from "./Agreement";
import { useMakePool, usePools, useRemovePool, type Pool } from "./api";
import { JudgePool } from "./JudgePool";

export function Judging() {
  const { pool } = useParams();
  const [agreeing, setAgreeing] = useState<Pool | null>(null);
  const making = useNewestJob("pool").data;
  const pools = usePools(making);
  if (pool)
    return (
      <Shown query={pools} what="Opening the pool">
        {(rows) => {
          const found = rows.find((row) => row.id === Number(pool));
          return found ? (
            <JudgePool key={found.id} pool={found} />
          ) : (
            <Empty title="This pool is not here">It was removed.</Empty>
          );
        }}
      </Shown>
    );
  return (
    <>
      <div className="d-flex align-items-baseline gap-3 mb-2">
        <h2 className="text-nowrap">Judging</h2>
        <span className="soft small-text">
          A pool is what several recipes find first, by lot and without names, ranks or scores. Each grade is
          a label at once. Two judges of one pool do not see each other's grades.
        </span>
      </div>
      {making && making.state !== "done" && <JobBar job={making} />}
      <Shown query={pools} what="Reading the pools">
        {(rows) => (rows.length ? <PoolTable rows={rows} agree={setAgreeing} /> : <></>)}
      </Shown>
      <MakePool taken={pools.data?.map(({ name }) => name) ?? []} busy={running(making)} />
      {agreeing && <Agreement pool={agreeing} close={() => setAgreeing(null)} />}
    </>
  );
}

function PoolTable({ rows, agree }: { rows: Pool[]; agree: (pool: Pool) => void }) {
  const navigate = useNavigate();
  const remove = useRemovePool();
  const mayEdit = useMay("editor");
  const mayJudge = useMay("judge");
  const [sure, setSure] = useState<number | null>(null);
  return (
    <Table size="sm" className="align-middle">
      <thead>
        <tr>
          <th>Pool</th>
          <th className="text-end">Passages</th>
          <th>Judged by</th>
          <th>First of</th>
          <th>
            <span className="visually-hidden">actions</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.id} data-pool={row.name}>
            <td>
              <strong>{row.name}</strong>
            </td>
            <td className="text-end num">{row.items}</td>
            <td className="small-text">
              {row.judges.length
                ? row.judges
                    .map(({ judge, count }) => `${judge} ${percent(count / Math.max(row.items, 1))}`)
                    .join(", ")
                : "nobody yet"}
            </td>
            <td className="small-text soft">
              first {row.depth} of {row.recipes.map(({ name, version }) => `${name} v${version}`).join(", ")}
            </td>
            <td className="text-end text-nowrap">
              {mayJudge && (
                <Button
                  size="sm"
                  disabled={row.own === row.items}
                  onClick={() => navigate(`/questions/judging/${row.id}`)}
                >
                  {row.own === row.items ? "All judged" : row.own ? "Go on judging" : "Judge"}
                </Button>
              )}{" "}
              {mayEdit && (
                <>
                  <Button size="sm" variant="outline-primary" onClick={() => agree(row)}>
                    Agreement
                  </Button>{" "}
                  <Button
                    size="sm"
                    variant="outline-danger"
                    onBlur={() => setSure(null)}
                    onClick={() => (sure === row.id ? remove.mutate(row.id) : setSure(row.id))}
                  >
                    {sure === row.id ? "Remove it, labels stay" : "Remove"}
                  </Button>
                </>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

function MakePool({ taken, busy }: { taken: string[]; busy: boolean }) {
  const recipes = useRecipes();
  const sets = useQuestionSets();
  const make = useMakePool();
  const mayEdit = useMay("editor");
  const [name, setName] = useState("");
  const [chosen, setChosen] = useState<number[] | null>(null);
  const [depth, setDepth] = useState(5);
  const [set, setSet] = useState<number | null>(null);
  if (!mayEdit || !recipes.data) return null;
  const inForce = recipes.data.filter(({ in_force }) => in_force).map(({ id }) => id);
  const picked = chosen ?? inForce;
  const named = name.trim() || freeName(taken);
  return (
    <Form
      className="make-pool"
      onSubmit={(event) => {
        event.preventDefault();
        make.mutate({ name: named, recipes: picked, depth, set }, { onSuccess: () => setName("") });
      }}
    >
      <h3>A new pool</h3>
      <div className="fields small-text">
        <Form.Group controlId="pool-name">
          <Form.Label>Name</Form.Label>
          <Form.Control
            size="sm"
            value={name}
            maxLength={120}
            placeholder={freeName(taken)}
            onChange={(event) => setName(event.target.value)}
          />
        </Form.Group>
        <Form.Group controlId="pool-depth">
          <Form.Label>First passages of each</Form.Label>
          <Form.Control
            size="sm"
            type="number"
            min={1}
            max={100}
            value={depth}
            onChange={(event) => setDepth(Number(event.target.value))}
          />
        </Form.Group>
        <Form.Group controlId="pool-set">
          <Form.Label>Questions</Form.Label>
          <Form.Select
            size="sm"
            value={set ?? ""}
            onChange={(event) => setSet(Number(event.target.value) || null)}
          >
            <option value="">of all measured sets</option>
            {sets.data?.map((one) => (
              <option key={one.id} value={one.id}>
                of {one.name}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
      </div>
      <fieldset className="recipes small-text">
        <legend>Found by</legend>
        {recipes.data.map((recipe) => (
          <Form.Check
            key={recipe.id}
            type="checkbox"
            id={`pool-recipe-${recipe.id}`}
            label={`${recipe.name} v${recipe.version}`}
            checked={picked.includes(recipe.id)}
            onChange={() =>
              setChosen(
                picked.includes(recipe.id) ? picked.filter((id) => id !== recipe.id) : [...picked, recipe.id],
              )
            }
          />
        ))}
      </fieldset>
      <Button size="sm" type="submit" disabled={!picked.length || busy || make.isPending}>
        Make the pool
      </Button>
      {make.error && <span className="lost small-text ms-2">{make.error.message}</span>}
    </Form>
  );
}

/** Pool 1, Pool 2, ... */
function freeName(taken: string[]): string {
  for (let number = 1; ; number += 1) if (!taken.includes(`Pool ${number}`)) return `Pool ${number}`;
}
