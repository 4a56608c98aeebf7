// Which figure: a metric, of how many passages, after which stage.
import { useFamily } from "../api/catalogue";

/** Whether the answer was delivered, as a metric: it has no cut-off and no stage of its own. */
export const DELIVERED = "delivered";
const CUTOFFS = [1, 3, 5, 10, 20];

export interface Figure {
  metric: string;
  k: number;
  stage: string;
}

/** The metric as it is kept, such as recall@5. */
export function useMetricName({ metric, k }: Figure): string {
  const kind = useFamily("metrics").kinds.find(({ name }) => name === metric);
  return kind?.facts.cut ? `${metric}@${k}` : metric;
}

export function FigureChoice({
  label,
  value,
  choose,
  stages,
}: {
  label: string;
  value: Figure;
  choose: (figure: Figure) => void;
  stages: [value: string, title: string][];
}) {
  const kinds = useFamily("metrics").kinds;
  const cut = kinds.find(({ name }) => name === value.metric)?.facts.cut;
  return (
    <>
      <label>
        {label}{" "}
        <select
          className="form-select form-select-sm"
          value={value.metric}
          onChange={(event) => choose({ ...value, metric: event.target.value })}
        >
          <option value={DELIVERED}>Delivered</option>
          {kinds.map(({ name, title }) => (
            <option key={name} value={name}>
              {title}
            </option>
          ))}
        </select>
      </label>
      {Boolean(cut) && (
        <label>
          of the first{" "}
          <select
            className="form-select form-select-sm"
            value={value.k}
            onChange={(event) => choose({ ...value, k: Number(event.target.value) })}
          >
            {CUTOFFS.map((k) => (
              <option key={k}>{k}</option>
            ))}
          </select>
        </label>
      )}
      {value.metric !== DELIVERED && (
        <label>
          after{" "}
          <select
            className="form-select form-select-sm"
            value={value.stage}
            onChange={(event) => choose({ ...value, stage: event.target.value })}
          >
            {stages.map(([stage, title]) => (
              <option key={stage} value={stage}>
                {title}
              </option>
            ))}
          </select>
        </label>
      )}
    </>
  );
}
