// The frame of every screen: header, the line, the question drawer, and the view in the middle.
import { useState } from "react";
import { Button } from "react-bootstrap";
import { NavLink, Outlet, useLocation } from "react-router";
import type { Line as LineData } from "../api/client";
import { useLine, useQuestions, useTrialsToCome } from "../api/queries";
import { LabelModeProvider } from "../labels/mode";
import { DraftBar } from "../draft/DraftBar";
import { DraftProvider } from "../draft/DraftProvider";
import { useDraft, useDraftMeasured } from "../draft/draft";
import { Line } from "../line/Line";
import { Drawer } from "../questions/Drawer";
import { RecipeEditor } from "../recipe/RecipeEditor";
import { RecipePicker } from "../recipe/RecipePicker";
import { counted } from "../text/numbers";
import { Help } from "./Help";
import { JobBar } from "./JobBar";
import { useKeys } from "./keyboard";
import { TITLES, useStage } from "./pin";
import { useReachable } from "./reachable";
import { WorkspaceMenu } from "../workspaces/WorkspaceMenu";
import { Shown } from "./states";
import { useMay, useOwnWorkspace } from "./workspace";

export function Shell() {
  return (
    <LabelModeProvider>
      <DraftProvider>
        <Frame />
      </DraftProvider>
    </LabelModeProvider>
  );
}

/** The line, with the levels of a draft below those of the recipe in force. */
function DraftedLine({ line }: { line: LineData }) {
  const { draft } = useDraft(line.recipe.id);
  const { data } = useDraftMeasured(draft);
  return <Line line={line} draft={draft ? data : undefined} />;
}

function Frame() {
  const { name, documents } = useOwnWorkspace();
  const line = useLine();
  const questions = useQuestions();
  const toCome = useTrialsToCome().data?.length ?? 0;
  const [editing, setEditing] = useState(false);
  const [help, setHelp] = useState(false);
  const path = useLocation().pathname;
  const onTrials = path.startsWith("/trials");
  const onBegin = path.startsWith("/begin");
  const onQuestions = path.startsWith("/questions");
  const onHistory = path.startsWith("/history");
  const onServe = path.startsWith("/serving");
  const apart = onTrials || onBegin || onQuestions || onHistory || onServe;
  const mayEdit = useMay("editor");
  const stage = useStage();
  useReachable();
  useKeys(questions.data ?? [], () => setHelp((shown) => !shown));
  return (
    <div className="app">
      <header className="top">
        <h1 className="visually-hidden">
          {onTrials
            ? "Trials"
            : onBegin
              ? "Beginning"
              : onQuestions
                ? "Questions"
                : onHistory
                  ? "History"
                  : onServe
                    ? "Serve"
                    : stage
                      ? TITLES[stage]
                      : "Line"}{" "}
          of {name}
        </h1>
        <NavLink className="name" to="/line/fused">
          Doppio
        </NavLink>
        <WorkspaceMenu />
        <span className="soft small-text">
          {counted(documents, "document")}, {line.data ? counted(line.data.questions, "question") : "…"}
        </span>
        <span className="ms-auto d-flex align-items-center gap-2">
          {line.data && <RecipePicker recipe={line.data.recipe} />}
          {mayEdit && (
            <Button
              size="sm"
              variant="outline-primary"
              onClick={() => setEditing(true)}
              disabled={!line.data}
            >
              Edit recipe
            </Button>
          )}
          <nav className="d-flex gap-1">
            <NavLink to="/begin">Begin</NavLink>
            <NavLink to="/questions">Questions</NavLink>
            <NavLink to="/line/fused" className={apart ? "" : "active"}>
              Line
            </NavLink>
            <NavLink to="/trials">
              Trials
              {toCome > 0 && (
                <span className="count num" title={`${toCome} recipes are still to be measured`}>
                  {toCome}
                </span>
              )}
            </NavLink>
            <NavLink to="/serving">Serve</NavLink>
          </nav>
          <Button
            size="sm"
            variant="outline-primary"
            aria-label="Keys and words"
            onClick={() => setHelp(true)}
          >
            ?
          </Button>
        </span>
      </header>
      <div className="d-grid gap-2">
        <Shown query={line} what="Reading the line">
          {(data) => (
            <>
              <DraftedLine line={data} />
              <DraftBar recipe={data.recipe} edit={() => setEditing(true)} />
              {data.job && <JobBar job={data.job} />}
            </>
          )}
        </Shown>
      </div>
      {apart ? (
        <Outlet />
      ) : (
        <main className="work">
          <Drawer questions={questions} />
          <section className="panel view" aria-label="Stage view">
            <Outlet />
          </section>
        </main>
      )}
      {line.data && editing && (
        <RecipeEditor key={line.data.recipe.id} recipe={line.data.recipe} close={() => setEditing(false)} />
      )}
      <Help shown={help} close={() => setHelp(false)} />
    </div>
  );
}
