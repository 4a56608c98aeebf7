// What the answers of the last trial are worth, where the recipe answers.
import { useLine, useTrials } from "../../api/queries";
import { percent, score } from "../../text/numbers";
import { Figures } from "../shared/Figures";

export function Answers() {
  const recipe = useLine().data?.recipe.id;
  const trial = useTrials().data?.find((row) => row.recipe.id === recipe);
  const told = trial?.answers ?? {};
  if (told.answerable === undefined) return null;
  const { f1 = 0, exact = 0, holds = 0, cited, answerable, unanswerable = 0 } = told;
  return (
    <section className="mb-3">
      <h3>
        Answers <span className="soft fw-normal">beside the labels; larger is better</span>
      </h3>
      <Figures
        rows={[
          [score(f1), "word F1, mean"],
          [percent(holds), "of the label's words, mean"],
          [percent(exact), "word for word"],
          ...(cited === undefined
            ? []
            : ([[percent(cited), "of sentences cite what is labelled"]] as [string, string][])),
          [`${told.silent_right ?? 0} of ${unanswerable}`, "unanswerable: nothing said"],
          [`${told.silent_wrong ?? 0} of ${answerable}`, "answerable, yet nothing said"],
        ]}
      />
    </section>
  );
}
