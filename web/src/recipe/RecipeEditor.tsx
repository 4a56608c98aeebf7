// Editing the recipe in force: every field of every stage; saving makes a new version and measures it.
import { Fragment, useState } from "react";
import { Button, Form, Offcanvas } from "react-bootstrap";
import { useCatalogue } from "../api/catalogue";
import { useSaveRecipe } from "../api/queries";
import { useScorers } from "../api/reranking";
import type { Recipe } from "../api/client";
import { Segments } from "../shell/Segments";
import { Marker } from "../shell/Marker";
import { CONTEXTS, overlapUnit, RULES, UNITS, withRule, type Chunking } from "../stages/chunks/settings";
import { BuildCost } from "./BuildCost";
import { DenseFields, SparseFields } from "./BranchFields";
import { startOf } from "./kinds";
import { completed, field, problems, withField, type RecipeBody } from "./paths";

interface Branch {
  id: string;
  kind: "bm25" | "vector";
}

export function RecipeEditor({ recipe, close }: { recipe: Recipe; close: () => void }) {
  const [body, setBody] = useState(() => completed(recipe.body as RecipeBody));
  const [raw, setRaw] = useState<string | null>(null);
  const [rawProblem, setRawProblem] = useState("");
  const [note, setNote] = useState("");
  const save = useSaveRecipe(close);
  const wrong = save.error ? problems(save.error.message) : {};
  const branches = (body.branches as Branch[]) ?? [];
  const method = field(body, "fusion.method");
  const chunking = { minimum: 0, context: "none", host: null, ...(body.chunking as Chunking) };

  function submit() {
    let given = body;
    if (raw !== null) {
      try {
        given = JSON.parse(raw) as RecipeBody;
      } catch (error) {
        setRawProblem(`Not JSON: ${(error as Error).message}`);
        return;
      }
    }
    setRawProblem("");
    save.mutate({ body: given, note });
  }

  const methods = useCatalogue().fusion;
  const scorers = useScorers();
  const scorer = scorers.data?.find((row) => row.name === field(body, "rerank.scorer"));
  const blend = scorer?.blend ?? 0;
  const floorUnit = scorer?.calibrated ? "0 to 1" : "a score";

  const set = (path: string, value: unknown) => setBody((old) => withField(old, path, value));
  const number = (path: string, label: string, hint?: string) => (
    <NumberField key={path} path={path} label={label} hint={hint} body={body} set={set} wrong={wrong[path]} />
  );
  const choice = (path: string, label: string, options: Record<string, string>) => (
    <div key={path}>
      <label htmlFor={path}>{label}</label>
      <Form.Select
        id={path}
        size="sm"
        value={String(field(body, path))}
        onChange={(event) => set(path, event.target.value)}
      >
        {Object.entries(options).map(([value, text]) => (
          <option key={value} value={value}>
            {text}
          </option>
        ))}
      </Form.Select>
      {wrong[path] && <div className="wrong">{wrong[path]}</div>}
    </div>
  );
  const tick = (path: string, label: string) => (
    <Form.Check
      key={path}
      id={path}
      label={label}
      checked={field(body, path) === true}
      onChange={(event) => set(path, event.target.checked)}
    />
  );

  function setScorer(name: string) {
    const old = (body.rerank as Record<string, unknown> | null) ?? { shortlist: 20 };
    set("rerank", name ? { ...old, scorer: name, blend: null, floor: null } : null);
  }

  function setMethod(value: string) {
    const { weights, depth } = body.fusion as { weights: unknown; depth: unknown };
    const kind = methods.find(({ name }) => name === value)!;
    set("fusion", { method: value, ...startOf(kind), weights, depth });
  }

  return (
    <Offcanvas show onHide={close} placement="end" className="recipe-form" aria-labelledby="recipe-title">
      <Offcanvas.Header closeButton>
        <Offcanvas.Title as="h2" id="recipe-title">
          {recipe.name} v{recipe.version}, edited
        </Offcanvas.Title>
      </Offcanvas.Header>
      <Offcanvas.Body>
        <Segments
          options={[
            ["fields", "Fields"],
            ["json", "JSON"],
          ]}
          value={raw === null ? "fields" : "json"}
          choose={(form) => setRaw(form === "json" ? JSON.stringify(body, null, 2) : null)}
        />
        {raw !== null ? (
          <Form.Control
            as="textarea"
            aria-label="Recipe as JSON"
            className="mono"
            rows={24}
            spellCheck={false}
            value={raw}
            onChange={(event) => setRaw(event.target.value)}
          />
        ) : (
          <>
            <Part kind="chunks" title="Chunks">
              <div>
                <label htmlFor="chunking.rule">Rule</label>
                <Form.Select
                  id="chunking.rule"
                  size="sm"
                  value={chunking.rule}
                  onChange={(event) => set("chunking", withRule(chunking, event.target.value))}
                >
                  {Object.entries(RULES).map(([value, text]) => (
                    <option key={value} value={value}>
                      {text}
                    </option>
                  ))}
                </Form.Select>
                {wrong["chunking.rule"] && <div className="wrong">{wrong["chunking.rule"]}</div>}
              </div>
              {choice("chunking.unit", "Unit", UNITS)}
              {number("chunking.size", "Size, in units")}
              <Fragment key={chunking.rule}>
                {number(
                  "chunking.overlap",
                  `Overlap, in ${overlapUnit(chunking.rule, "x") === "sentences" ? "sentences" : "units"}`,
                )}
                {number("chunking.minimum", "At least, in units")}
                {chunking.rule === "outline" && number("chunking.level", "Heading level, 1 to 9")}
                {chunking.rule === "topic-shift" && (
                  <>
                    {choice("chunking.signal", "Compared by", {
                      terms: "terms",
                      vectors: "sentence vectors",
                    })}
                    {number("chunking.window", "Sentences a side")}
                    {number("chunking.sensitivity", "Sensitivity", "more cuts as it rises")}
                  </>
                )}
              </Fragment>
              {choice("chunking.context", "Indexed with", CONTEXTS)}
              <div>
                <Form.Check
                  id="chunking.host"
                  label="in host chunks"
                  checked={Boolean(chunking.host)}
                  onChange={(event) =>
                    set("chunking.host", event.target.checked ? { size: 3 * chunking.size } : null)
                  }
                />
                {chunking.host && number("chunking.host.size", "Size of hosts, in units")}
              </div>
            </Part>
            {branches.map((branch, place) =>
              branch.kind === "bm25" ? (
                <Part key={branch.id} kind="sparse" title={`Sparse branch “${branch.id}”`}>
                  <SparseFields
                    path={`branches[${place}]`}
                    body={body}
                    set={set}
                    number={number}
                    choice={choice}
                  />
                  {number(`branches[${place}].depth`, "Depth, in chunks")}
                  <div>
                    {tick(`branches[${place}].analysis.stem`, "stem words")}
                    {tick(`branches[${place}].analysis.stop_words`, "leave out stop words")}
                    {tick(`branches[${place}].analysis.keep_codes`, "keep codes whole too")}
                  </div>
                </Part>
              ) : (
                <Part key={branch.id} kind="dense" title={`Dense branch “${branch.id}”`}>
                  <DenseFields
                    path={`branches[${place}]`}
                    body={body}
                    set={set}
                    number={number}
                    choice={choice}
                  />
                  {number(`branches[${place}].depth`, "Depth, in chunks")}
                </Part>
              ),
            )}
            <Part kind="fused" title="Fusion">
              <div>
                <label htmlFor="fusion.method">Method</label>
                <Form.Select
                  id="fusion.method"
                  size="sm"
                  value={String(method)}
                  onChange={(event) => setMethod(event.target.value)}
                >
                  {methods.map(({ name, title }) => (
                    <option key={name} value={name}>
                      {title}
                    </option>
                  ))}
                </Form.Select>
              </div>
              {methods
                .find(({ name }) => name === method)
                ?.settings.map(({ name, title }) => number(`fusion.${name}`, title))}
              {number("fusion.depth", "Depth, in chunks")}
              {branches.map((branch) => number(`fusion.weights.${branch.id}`, `Weight of ${branch.id}`))}
            </Part>
            <Part kind="reranked" title="Reranking">
              <div>
                <label htmlFor="rerank">Scorer</label>
                <Form.Select
                  id="rerank"
                  size="sm"
                  value={String(field(body, "rerank.scorer") ?? "")}
                  onChange={(event) => setScorer(event.target.value)}
                >
                  <option value="">none: the fused order is kept</option>
                  {(scorers.data ?? []).map((row) => (
                    <option key={row.name} value={row.name}>
                      {row.title}
                    </option>
                  ))}
                </Form.Select>
                {wrong["rerank.scorer"] && <div className="wrong">{wrong["rerank.scorer"]}</div>}
              </div>
              {body.rerank !== null && (
                <Fragment key={String(field(body, "rerank.scorer"))}>
                  {number("rerank.shortlist", "Shortlist, in chunks")}
                  {number("rerank.blend", `Blend, ${blend} if empty`, "share of the fused score, from 0")}
                  {number("rerank.floor", `Floor, ${floorUnit}`, "empty: nothing is dropped")}
                </Fragment>
              )}
              {wrong.rerank && <div className="wrong">{wrong.rerank}</div>}
            </Part>
            <Part kind="context" title="Context">
              {number("select.k", "At most, in chunks")}
              {number("select.budget_tokens", "Budget, in tokens")}
            </Part>
          </>
        )}
        <div className="save-bar">
          {raw === null && <BuildCost body={body} />}
          <Form.Control
            size="sm"
            className="my-2"
            placeholder="Why this change? (optional)"
            aria-label="Note"
            maxLength={300}
            value={note}
            onChange={(event) => setNote(event.target.value)}
          />
          {(rawProblem || save.error) && (
            <div
              className="notice mb-2"
              style={{ "--tone": "var(--lost)" } as React.CSSProperties}
              role="alert"
            >
              {rawProblem || save.error?.message}
            </div>
          )}
          <div className="d-flex gap-2">
            <Button onClick={submit} disabled={save.isPending}>
              Save as new version
            </Button>
            <Button variant="outline-secondary" onClick={close}>
              Drop
            </Button>
          </div>
        </div>
      </Offcanvas.Body>
    </Offcanvas>
  );
}

function Part({ kind, title, children }: { kind: string; title: string; children: React.ReactNode }) {
  return (
    <fieldset style={{ "--tone": `var(--${kind})` } as React.CSSProperties}>
      <legend>
        <Marker kind={kind} /> {title}
      </legend>
      <div className="grid">{children}</div>
    </fieldset>
  );
}

function NumberField({
  path,
  label,
  hint,
  body,
  set,
  wrong,
}: {
  path: string;
  label: string;
  hint?: string;
  body: RecipeBody;
  set: (path: string, value: unknown) => void;
  wrong?: string;
}) {
  const value = field(body, path);
  const [text, setText] = useState(value === null || value === undefined ? "" : String(value));
  return (
    <div>
      <label htmlFor={path}>{label}</label>
      <Form.Control
        id={path}
        size="sm"
        inputMode="decimal"
        value={text}
        title={hint}
        isInvalid={Boolean(wrong)}
        onChange={(event) => {
          const typed = event.target.value.trim();
          setText(event.target.value);
          // What is no number is sent as it stands: the server says what would be right.
          set(path, typed === "" ? null : Number.isNaN(Number(typed)) ? typed : Number(typed));
        }}
      />
      {wrong && <div className="wrong">{wrong}</div>}
    </div>
  );
}
