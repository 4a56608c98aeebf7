// The settings of an analysis; what a change does is seen at once in the playground.
import { Form } from "react-bootstrap";
import { useCatalogue } from "../../api/catalogue";
import { useReadSynonyms } from "./api";
import type { Analysis } from "./analysis";

export function AnalysisSettings({
  analysis,
  set,
}: {
  analysis: Analysis;
  set: (analysis: Analysis) => void;
}) {
  const read = useReadSynonyms((synonyms) => set({ ...analysis, synonyms }));
  const settings = useCatalogue().analysis;
  const named = (name: string) => settings.find((setting) => setting.name === name);
  const choices = (name: string) =>
    named(name)?.choices.map(({ value, title }) => (
      <option key={value} value={value}>
        {title}
      </option>
    ));
  const change = (part: Partial<Analysis>) => set({ ...analysis, ...part });
  const tick = (name: "stem" | "stop_words" | "keep_codes") => (
    <Form.Check
      id={`analysis-${name}`}
      label={named(name)?.title ?? name}
      checked={analysis[name]}
      onChange={(event) => change({ [name]: event.target.checked })}
    />
  );
  return (
    <div className="analysis-settings small-text">
      <div>
        <label htmlFor="analysis-language">{named("language")?.title}</label>
        <Form.Select
          id="analysis-language"
          size="sm"
          value={analysis.language}
          onChange={(event) => change({ language: event.target.value })}
        >
          {choices("language")}
        </Form.Select>
      </div>
      <div>
        {tick("stem")}
        {tick("stop_words")}
        {tick("keep_codes")}
      </div>
      <div>
        <label htmlFor="analysis-grams">Words become</label>
        <Form.Select
          id="analysis-grams"
          size="sm"
          value={analysis.grams ? `${analysis.grams.from}-${analysis.grams.to}` : ""}
          onChange={(event) => {
            const [from, to] = event.target.value.split("-").map(Number);
            change({ grams: event.target.value ? { from: from!, to: to! } : null });
          }}
        >
          <option value="">one term each</option>
          <option value="3-3">n-grams of 3 letters</option>
          <option value="3-4">n-grams of 3 and 4</option>
          <option value="2-4">n-grams of 2 to 4</option>
          {analysis.grams &&
            !["3-3", "3-4", "2-4"].includes(`${analysis.grams.from}-${analysis.grams.to}`) && (
              <option value={`${analysis.grams.from}-${analysis.grams.to}`}>
                n-grams of {analysis.grams.from} to {analysis.grams.to}
              </option>
            )}
        </Form.Select>
      </div>
      <div>
        <label htmlFor="analysis-cjk">{named("cjk")?.title}</label>
        <Form.Select
          id="analysis-cjk"
          size="sm"
          value={analysis.cjk}
          onChange={(event) => change({ cjk: event.target.value })}
        >
          {choices("cjk")}
        </Form.Select>
      </div>
      <div>
        <label htmlFor="analysis-synonyms">
          Synonyms:{" "}
          {analysis.synonyms.length ? `${analysis.synonyms.length.toLocaleString()} groups` : "none"}
          {analysis.synonyms.length > 0 && (
            <button
              type="button"
              className="btn btn-link btn-sm p-0 ms-2 align-baseline"
              onClick={() => change({ synonyms: [] })}
            >
              drop
            </button>
          )}
        </label>
        <Form.Control
          id="analysis-synonyms"
          type="file"
          size="sm"
          accept=".txt,.csv,text/plain"
          title="One group a line, parted by commas: cabin, gondola, car"
          onChange={(event) => {
            const file = (event.target as HTMLInputElement).files?.[0];
            if (file) void file.text().then((text) => read.mutate({ text, name: file.name }));
          }}
        />
        {read.error && <div className="lost">{read.error.message}</div>}
      </div>
    </div>
  );
}
