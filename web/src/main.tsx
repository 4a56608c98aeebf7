import "@fontsource/jetbrains-mono/400.css";
import "@fontsource/jetbrains-mono/600.css";
import "@fontsource/source-sans-3/400.css";
import "@fontsource/source-sans-3/600.css";
import "@fontsource/source-sans-3/700.css";
import "@fontsource/source-serif-4/400.css";
import "@fontsource/source-serif-4/600.css";
import "./theme/theme.scss";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { tryAfter, tryAgain } from "./api/client";
import { Shell } from "./shell/Shell";
import { StageView } from "./stages/StageView";
import { Trials } from "./trials/Trials";

const queries = new QueryClient({
  defaultOptions: {
    queries: { retry: tryAgain, retryDelay: tryAfter, refetchOnWindowFocus: false, staleTime: 5_000 },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <Routes>
          <Route element={<Shell />}>
            <Route path="/line/:stage" element={<StageView />} />
            <Route path="/trials" element={<Trials />} />
            <Route path="*" element={<Navigate to="/line/fused" replace />} />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
