// How far judges agree, and a third look where they do not.
import { Button, Modal, Table } from "react-bootstrap";
import { Shown } from "../shell/states";
import { counted, percent } from "../text/numbers";
import { useAgreement, useSettle, type Differ, type Pool } from "./api";

export function Agreement({ pool, close }: { pool: Pool; close: () => void }) {
  const agreement = useAgreement(pool.id);
  return (
    <Modal show onHide={close} size="xl" scrollable aria-labelledby="agreement">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="agreement">
          Agreement on {pool.name}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <Shown query={agreement} what="Comparing judges">
          {({ pairs, differ, differ_count }) => (
            <>
              {pairs.length === 0 ? (
                <p>One judge or none so far: agreement needs a second one.</p>
              ) : (
                <Table size="sm" className="num">
                  <thead>
                    <tr>
                      <th>Judges</th>
                      <th className="text-end">Both judged</th>
                      <th className="text-end">Alike</th>
                      <th className="text-end">Cohen's kappa, 1 is full agreement</th>
                      <th className="text-end">95 % interval</th>
                    </tr>
                  </thead>
                  <tbody>
                    {pairs.map((pair) => (
                      <tr key={pair.judges.join()}>
                        <td>{pair.judges.join(" and ")}</td>
                        <td className="text-end">{pair.items}</td>
                        <td className="text-end">{percent(pair.same / Math.max(pair.items, 1))}</td>
                        <td className="text-end">
                          {pair.kappa === null ? "no meaning: one grade for all" : pair.kappa.toFixed(2)}
                        </td>
                        <td className="text-end">
                          {pair.low !== null && pair.high !== null
                            ? `${pair.low.toFixed(2)} to ${pair.high.toFixed(2)}`
                            : ""}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </Table>
              )}
              {differ.length > 0 && (
                <>
                  <h3>{counted(differ_count, "passage")} judged differently</h3>
                  <p className="soft small-text">
                    Until one is settled the lower grade stands as its label. Look again, and decide.
                  </p>
                  {differ.map((one) => (
                    <Look key={one.id} pool={pool.id} one={one} />
                  ))}
                </>
              )}
            </>
          )}
        </Shown>
      </Modal.Body>
    </Modal>
  );
}

function Look({ pool, one }: { pool: number; one: Differ }) {
  const settle = useSettle(pool);
  return (
    <article className="third-look">
      <div>
        <strong>{one.text}</strong>
        <p className="serif">{one.passage}</p>
        <span className="small-text soft">
          {one.title}; {one.grades.map(({ judge, grade }) => `${judge} gave ${grade}`).join(", ")}
        </span>
      </div>
      <div className="text-nowrap">
        {[0, 1, 2, 3].map((grade) => (
          <Button
            key={grade}
            size="sm"
            className="ms-1"
            variant={one.settled === grade ? "primary" : "outline-primary"}
            aria-label={`Settle at ${grade}`}
            disabled={settle.isPending}
            onClick={() => settle.mutate({ item: one.id, grade })}
          >
            {grade}
          </Button>
        ))}
        <div className="small-text soft text-end">
          {one.settled !== null ? `settled by ${one.settled_by ?? "somebody"}` : "open"}
        </div>
      </div>
    </article>
  );
}
