// Finds the workspace that the address is about, and opens its screens below it.
import { useEffect } from "react";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { useWorkspaces } from "../api/queries";
import { Begin } from "../begin/Begin";
import { History } from "../history/History";
import { QuestionsPage } from "../sets/QuestionsPage";
import { ServePage } from "../serve/ServePage";
import { StageView } from "../stages/StageView";
import { TrialsPage } from "../trials/TrialsPage";
import { MakeFirst } from "../workspaces/MakeFirst";
import { Shell } from "./Shell";
import { Empty, Shown } from "./states";
import { addressOf, chosenOf, namedIn, remember, WorkspaceContext } from "./workspace";
import type { Workspace } from "../api/client";

export function Root() {
  const workspaces = useWorkspaces();
  return (
    <Shown query={workspaces} what="Opening Doppio">
      {(list) => <Chosen list={list} />}
    </Shown>
  );
}

function Chosen({ list }: { list: Workspace[] }) {
  const path = window.location.pathname;
  const chosen = chosenOf(list, path);
  if (!list.length) return <MakeFirst />;
  if (!chosen)
    return (
      <Empty title="This workspace is not here">
        It was removed, or you are no member of it. <a href="/">Open another one</a>
      </Empty>
    );
  return <Opened key={chosen.id} workspace={chosen} />;
}

function Opened({ workspace }: { workspace: Workspace }) {
  // The router reads the address once it begins; an address without a workspace gets one before.
  if (namedIn(window.location.pathname) === null) {
    const { pathname, search } = window.location;
    window.history.replaceState(null, "", addressOf(workspace.id, pathname) + search);
  }
  useEffect(() => remember(workspace.id), [workspace.id]);
  return (
    <WorkspaceContext value={workspace}>
      <BrowserRouter basename={addressOf(workspace.id, "")}>
        <Routes>
          <Route element={<Shell />}>
            <Route path="/begin" element={<Begin />} />
            <Route path="/line/:stage" element={<StageView />} />
            <Route path="/questions/:part?/:pool?" element={<QuestionsPage />} />
            <Route path="/trials/:part?/:number?" element={<TrialsPage />} />
            <Route path="/serving/:part?" element={<ServePage />} />
            <Route path="/history" element={<History />} />
            <Route
              path="*"
              element={<Navigate to={workspace.documents ? "/line/fused" : "/begin"} replace />}
            />
          </Route>
        </Routes>
      </BrowserRouter>
    </WorkspaceContext>
  );
}
