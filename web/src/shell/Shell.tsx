// The frame of every screen: header, the line, the question drawer, and the view in the middle.
import { useState } from "react";
import { Button } from "react-bootstrap";
import { NavLink, Outlet, useLocation } from "react-router";
import { useLine, useQuestions, useTrialsToCome, useWorkspaces } from "../api/queries";
import { Line } from "../line/Line";
import { Drawer } from "../questions/Drawer";
import { RecipeEditor } from "../recipe/RecipeEditor";
import { RecipePicker } from "../recipe/RecipePicker";
import { Help } from "./Help";
import { JobBar } from "./JobBar";
import { useKeys } from "./keyboard";
import { TITLES, useStage } from "./pin";
import { useReachable } from "./reachable";
import { Empty, Shown } from "./states";
import { WorkspaceContext } from "./workspace";

export function Shell() {
  const workspaces = useWorkspaces();
  return (
    <Shown query={workspaces} what="Opening Doppio">
      {(list) =>
        list[0] ? (
          <WorkspaceContext value={list[0].id}>
            <Frame name={list[0].name} documents={list[0].documents} />
          </WorkspaceContext>
        ) : (
          <Empty title="No workspace yet">Load the demo with ./doppio demo, then reload this page.</Empty>
        )
      }
    </Shown>
  );
}

function Frame({ name, documents }: { name: string; documents: number }) {
  const line = useLine();
  const questions = useQuestions();
  const toCome = useTrialsToCome().data?.length ?? 0;
  const [editing, setEditing] = useState(false);
  const [help, setHelp] = useState(false);
  const onTrials = useLocation().pathname.startsWith("/trials");
  const stage = useStage();
  useReachable();
  useKeys(questions.data ?? [], () => setHelp((shown) => !shown));
  return (
    <div className="app">
      <header className="top">
        <h1 className="visually-hidden">
          {onTrials ? "Trials" : stage ? TITLES[stage] : "Line"} of {name}
        </h1>
        <NavLink className="name" to="/line/fused">
          Doppio
        </NavLink>
        <span>{name}</span>
        <span className="soft small-text">
          {documents} documents, {line.data?.questions ?? "…"} questions
        </span>
        <span className="ms-auto d-flex align-items-center gap-2">
          {line.data && <RecipePicker recipe={line.data.recipe} />}
          <Button size="sm" variant="outline-primary" onClick={() => setEditing(true)} disabled={!line.data}>
            Edit recipe
          </Button>
          <nav className="d-flex gap-1">
            <NavLink to="/line/fused" className={onTrials ? "" : "active"}>
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
              <Line line={data} />
              {data.job && <JobBar job={data.job} />}
            </>
          )}
        </Shown>
      </div>
      {onTrials ? (
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
