// The analysis playground: type a text, see what every step makes of it, and which chunks hold the terms.
import { useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { useAnalysis, type AnalysisStep, type HardCase } from "./api";
import { useLine } from "../../api/queries";
import { useSaveRecipe } from "../../recipe/api";
import { Failed, Loading } from "../../shell/states";
import { useSettled } from "../chunks/settled";
import { useCatalogue } from "../../api/catalogue";
import type { RecipeDocument } from "../../api/client";
import { startOf } from "../../recipe/kinds";
import { AnalysisSettings } from "./AnalysisSettings";
import { analysisOf, withAnalysis, type Analysis } from "./analysis";

const NAMES = new Intl.DisplayNames("en", { type: "language" });
const SAMPLE = "Why did the gondolas stop after alarm E-417 at Brackenhorn's upper station?";

export function Playground({ branch }: { branch: string | null }) {
  const line = useLine();
  const recipe = line.data?.recipe;
  const { analysis } = useCatalogue();
  if (!recipe) return <Loading what="Reading the recipe" />;
  if (!analysis.length) return <Loading what="Reading what there is to choose from" />;
  return <Bench key={recipe.id} body={recipe.body} branch={branch} />;
}

function Bench({ body, branch }: { body: RecipeDocument; branch: string | null }) {
  const catalogue = useCatalogue();
  const inForce = analysisOf(body, branch, startOf(catalogue.analysis));
  const [text, setText] = useState(SAMPLE);
  const [analysis, setAnalysis] = useState<Analysis>(inForce);
  const found = useAnalysis(useSettled(text, 150), analysis, branch);
  const save = useSaveRecipe(() => undefined);
  const changed = JSON.stringify(analysis) !== JSON.stringify(inForce);
  return (
    <div className="playground">
      <AnalysisSettings analysis={analysis} set={setAnalysis} />
      <div className="d-flex gap-2 mb-2">
        <Form.Control
          aria-label="Text to analyse"
          value={text}
          maxLength={4000}
          spellCheck={false}
          onChange={(event) => setText(event.target.value)}
        />
        {changed && (
          <>
            <Button
              size="sm"
              className="text-nowrap"
              disabled={save.isPending || Boolean(found.error)}
              onClick={() =>
                save.mutate({ body: withAnalysis(body, branch, analysis), note: "Analysis changed" })
              }
            >
              Use and build
            </Button>
            <Button
              size="sm"
              variant="outline-secondary"
              className="text-nowrap"
              onClick={() => setAnalysis(inForce)}
            >
              As in force
            </Button>
          </>
        )}
      </div>
      {save.error && <div className="lost small-text">{save.error.message}</div>}
      {found.error ? (
        <Failed error={found.error} />
      ) : found.data ? (
        <>
          <Steps steps={found.data.steps} changed={changed} />
          <HardCases cases={found.data.cases} language={analysis.language} />
        </>
      ) : (
        <Loading what="Analysing" />
      )}
    </div>
  );
}

function HardCases({ cases, language }: { cases: HardCase[]; language: string }) {
  const wrong = cases.filter((one) => one.shared.length > 0 !== one.meet).length;
  return (
    <section className="hard-cases" aria-label="Hard cases">
      <h3 className="h6">
        Hard cases{language === "any" ? "" : `, ${NAMES.of(language)} first`}:{" "}
        <span className={wrong ? "lost" : "soft"}>
          {cases.length - wrong} of {cases.length} as they should be
        </span>
      </h3>
      <ul>
        {cases.map((one) => (
          <Case key={`${one.one} ${one.other}`} found={one} />
        ))}
      </ul>
    </section>
  );
}

function Case({ found }: { found: HardCase }) {
  const together = found.shared.length > 0;
  const right = together === found.meet;
  const said = together ? `meet by ${found.shared.slice(0, 3).join(", ")}` : "share no term";
  return (
    <li>
      <span className="mono">
        {found.one} <span className="soft">and</span> {found.other}
      </span>
      <span className={right ? "soft" : "lost"}>
        {said}
        {!right && (found.meet ? ", but should" : ", but should not")}
      </span>
      <span className="why">{found.why}</span>
    </li>
  );
}

function Steps({ steps, changed }: { steps: AnalysisStep[]; changed: boolean }) {
  if (!steps.length) return <p className="soft small-text">No token in this text.</p>;
  return (
    <Table size="sm" className="small-text steps">
      <thead>
        <tr>
          <th>Token</th>
          <th>folded</th>
          <th>stem</th>
          <th>
            terms, with the chunks that hold each{" "}
            {changed && <span className="soft fw-normal">in the index as it is built now</span>}
          </th>
        </tr>
      </thead>
      <tbody>
        {steps.map((step) => (
          <tr key={step.start} className={step.stopped ? "soft" : ""} data-token={step.token}>
            <td className="mono">{step.token}</td>
            <td className="mono">{step.folded === step.token ? "same" : step.folded}</td>
            <td className="mono">
              {step.stopped ? "stop word" : step.stem === step.folded ? "same" : step.stem}
            </td>
            <td>
              {step.terms.map((term, place) => (
                <span key={place} className="term-chip" title={term.kind}>
                  <span className="mono">{term.text}</span>{" "}
                  <span className="soft num">
                    {term.chunks ? term.chunks.toLocaleString() : "in no chunk"}
                  </span>
                  {term.kind !== "word" && <span className="kind">{term.kind}</span>}
                </span>
              ))}
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}
