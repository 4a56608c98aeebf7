// Sweeps: settings tried over and over, what they give, and what the choice among them is worth.
import { Button } from "react-bootstrap";
import { useNavigate, useParams } from "react-router";
import { Shown } from "../shell/states";
import { useMay } from "../shell/workspace";
import { running } from "../api/queries";
import { useSweeps, type Sweep } from "./api";
import { Found } from "./Found";
import { NewSweep } from "./NewSweep";

const NEW = "new";

export function Sweeps() {
  const { number } = useParams();
  const list = useSweeps();
  const go = useNavigate();
  const mayEdit = useMay("editor");
  return (
    <Shown query={list} what="Reading the sweeps">
      {(sweeps) => {
        const shown = sweeps.find((one) => String(one.id) === number) ?? (number === NEW ? null : sweeps[0]);
        const open = (sweep: number) => void go(`/trials/sweeps/${sweep}`);
        return (
          <div className="sweeps">
            <aside aria-label="Sweeps">
              {mayEdit && (
                <Button
                  size="sm"
                  variant={shown ? "outline-primary" : "primary"}
                  onClick={() => void go(`/trials/sweeps/${NEW}`)}
                >
                  New sweep
                </Button>
              )}
              <ul className="list-unstyled mb-0">
                {sweeps.map((one) => (
                  <li key={one.id}>
                    <Entry sweep={one} chosen={one === shown} open={open} />
                  </li>
                ))}
              </ul>
            </aside>
            <section aria-label={shown ? "Sweep" : "New sweep"}>
              {shown ? <Found key={shown.id} sweep={shown.id} /> : <NewSweep open={open} />}
            </section>
          </div>
        );
      }}
    </Shown>
  );
}

function Entry({ sweep, chosen, open }: { sweep: Sweep; chosen: boolean; open: (sweep: number) => void }) {
  const state = sweep.done
    ? sweep.current
      ? ""
      : "earlier documents or labels"
    : running(sweep.job)
      ? `${sweep.tried} tried`
      : (sweep.job?.state ?? "stopped");
  return (
    <button type="button" className="entry" aria-current={chosen || undefined} onClick={() => open(sweep.id)}>
      <b>{sweep.figure}</b> <span className="soft">of {sweep.recipe.name}</span>
      <span className="soft small-text d-block text-truncate">
        {sweep.axes.map((axis) => axis.split("=")[0]!.split(".").slice(-1)[0]).join(", ")}
      </span>
      {state && <span className="small-text d-block">{state}</span>}
    </button>
  );
}
