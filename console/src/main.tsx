import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Refused } from "./api";
import { Bench } from "./bench/Bench";
import { Frame } from "./Frame";
import { Points } from "./points/Points";
import { Rules } from "./rules/Rules";
import "uplot/dist/uPlot.min.css";
import "./theme.css";

const queries = new QueryClient({
  defaultOptions: { queries: { retry: (n, error) => n < 2 && !(error instanceof Refused), refetchOnWindowFocus: false } },
});

const root = document.getElementById("root");
if (!root) throw new Error("the page has no place for the console");
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Tooltip.Provider delayDuration={300}>
        <BrowserRouter>
          <Routes>
            <Route element={<Frame />}>
              <Route path="/points" element={<Points />} />
              <Route path="/rules" element={<Rules />} />
              <Route path="/bench" element={<Bench />} />
              <Route path="*" element={<Navigate to="/bench" replace />} />
            </Route>
          </Routes>
        </BrowserRouter>
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
);
