import { QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Bench } from "./bench/Bench";
import { Frame } from "./Frame";
import { Now } from "./now/Now";
import { newQueries } from "./parts/queries";
import { Points } from "./points/Points";
import { Rules } from "./rules/Rules";
import { Start } from "./Start";
import "./theme.css";

const queries = newQueries();

const root = document.getElementById("root");
if (!root) throw new Error("the page has no place for the console");
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Tooltip.Provider delayDuration={300}>
        <BrowserRouter>
          <Routes>
            <Route path="/:job" element={<Frame />}>
              <Route path="now" element={<Now />} />
              <Route path="points" element={<Points />} />
              <Route path="rules" element={<Rules />} />
              <Route path="bench" element={<Bench />} />
              <Route path="*" element={<Navigate to="../bench" replace />} />
            </Route>
            <Route path="/points" element={<Start />} />
            <Route path="/rules" element={<Start />} />
            <Route path="/bench" element={<Start />} />
            <Route path="/" element={<Start />} />
          </Routes>
        </BrowserRouter>
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
);
