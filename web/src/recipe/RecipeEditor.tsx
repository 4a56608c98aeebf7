// Editing the recipe in force: every field of every stage; saving makes a new version and measures it.
import { useEffect, useState } from "react";
import { Button, Form, Offcanvas } from "react-bootstrap";
import { useCatalogue } from "../api/catalogue";
import type { Recipe } from "../api/client";
import { differences, useDraft } from "../draft/draft";
import { Segments } from "../shell/Segments";
import { Loading } from "../shell/states";
import { BranchParts } from "./BranchParts";
import { BuildCost } from "./BuildCost";
import { FusionPart } from "./FusionPart";
import { Part } from "./Part";
import { completed, problems, withField, type RecipeBody } from "./paths";
import { filled, withKinds, type Values } from "./kinds";
import { RerankPart } from "./RerankPart";
import { KindFields, SettingFields } from "./SettingFields";
import { useSaveRecipe } from "./api";

// Milliseconds without a change after which a draft is asked.
const PAUSE = 600;

export function RecipeEditor({ recipe, close }: { recipe: Recipe; close: () => void }) {
  const catalogue = useCatalogue();
  return (
    // What it changes is seen beside it.
    <Offcanvas
      show
      onHide={close}
      placement="end"
      backdrop={false}
      scroll
      enforceFocus={false}
      className="recipe-form"
      aria-labelledby="recipe-title"
    >
      <Offcanvas.Header closeButton>
        <Offcanvas.Title as="h2" id="recipe-title">
          {recipe.name} v{recipe.version}, edited
        </Offcanvas.Title>
      </Offcanvas.Header>
      <Offcanvas.Body>
        {catalogue.families.branches ? (
          <Fields recipe={recipe} close={close} />
        ) : (
          <Loading what="Reading what there is to choose from" />
        )}
      </Offcanvas.Body>
    </Offcanvas>
  );
}

function Fields({ recipe, close }: { recipe: Recipe; close: () => void }) {
  const catalogue = useCatalogue();
  const { draft, set: setDraft } = useDraft(recipe.id);
  const [kept] = useState<RecipeBody>(() => {
    const given = recipe.body as unknown as RecipeBody;
    const whole = completed(given, (name, part) => filled(catalogue, name, part));
    return { ...whole, question: withKinds(catalogue, catalogue.question, (given.question ?? {}) as Values) };
  });
  const [body, setBody] = useState<RecipeBody>(draft?.body ?? kept);
  // What stands in the fields is tried beside the recipe in force once the typing pauses.
  useEffect(() => {
    const changes = differences(kept, body);
    const waiting = setTimeout(
      () => setDraft(changes.length ? { recipe: recipe.id, body, changes } : null),
      PAUSE,
    );
    return () => clearTimeout(waiting);
  }, [body, kept, recipe.id, setDraft]);
  const [raw, setRaw] = useState<string | null>(null);
  const [rawProblem, setRawProblem] = useState("");
  const [note, setNote] = useState("");
  const save = useSaveRecipe(() => {
    setDraft(null);
    close();
  });
  const wrong = save.error ? problems(save.error.message) : {};
  const set = (path: string, value: unknown) => setBody((old) => withField(old, path, value));
  const editing = { body, set, wrong };

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

  return (
    <>
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
            <KindFields family="chunking" path="chunking" label="Rule" {...editing} />
          </Part>
          <Part kind="fused" title="Before the search">
            <SettingFields settings={catalogue.question} path="question" {...editing} />
          </Part>
          <BranchParts change={setBody} {...editing} />
          <FusionPart {...editing} />
          <RerankPart {...editing} />
          <Part kind="context" title="Context">
            <KindFields family="selection" path="select" label="Passages are taken" {...editing} />
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
        {catalogue.refused.map(({ kind, reason }) => (
          <div key={kind} className="small-text lost">
            Not used: {kind}, {reason}.
          </div>
        ))}
        <div className="d-flex gap-2">
          <Button onClick={submit} disabled={save.isPending}>
            Save as new version
          </Button>
          <Button
            variant="outline-secondary"
            onClick={() => {
              setDraft(null);
              close();
            }}
          >
            Drop
          </Button>
        </div>
      </div>
    </>
  );
}
