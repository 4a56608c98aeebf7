// The settings of an analysis; what a change does is seen at once in the playground.
import { Form } from "react-bootstrap";
import { useReadSynonyms } from "../../api/indexes";
import { LANGUAGES, type Analysis } from "./variants";

export function AnalysisSettings({
  analysis,
  set,
}: {
  analysis: Analysis;
  set: (analysis: Analysis) => void;
}) {
  const read = useReadSynonyms((synonyms) => set({ ...analysis, synonyms }));
  const change = (part: Partial<Analysis>) => set({ ...analysis, ...part });
  const tick = (name: "stem" | "stop_words" | "keep_codes", label: string) => (
    <Form.Check
      id={`analysis-${name}`}
      label={label}
      checked={analysis[name]}
      onChange={(event) => change({ [name]: event.target.checked })}
    />
  );
  return (
    <div className="analysis-settings small-text">
      <div>
        <label htmlFor="analysis-language">Language</label>
        <Form.Select
          id="analysis-language"
          size="sm"
          value={analysis.language}
          onChange={(event) => change({ language: event.target.value })}
        >
          {Object.entries(LANGUAGES).map(([code, name]) => (
            <option key={code} value={code}>
              {name}
            </option>
          ))}
        </Form.Select>
      </div>
      <div>
        {tick("stem", "stem words")}
        {tick("stop_words", "leave out stop words")}
        {tick("keep_codes", "keep codes whole too")}
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
        <label htmlFor="analysis-cjk">Chinese, Japanese, Korean</label>
        <Form.Select
          id="analysis-cjk"
          size="sm"
          value={analysis.cjk}
          onChange={(event) => change({ cjk: event.target.value })}
        >
          <option value="pairs">pairs of signs</option>
          <option value="single">single signs</option>
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
