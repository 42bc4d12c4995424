import "@fontsource-variable/atkinson-hyperlegible-next";
import "@fontsource-variable/jetbrains-mono";
import "./parts/styles";
import "@mantine/dropzone/styles.css";
import "@mantine/spotlight/styles.css";
import "./frame/base.css";
import "./picture/picture.css";
import "./stages/stages.css";
import { MantineProvider } from "@mantine/core";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Navigate, RouterProvider } from "react-router";
import { queries } from "./api/cache";
import { Broken } from "./frame/Broken";
import { SessionPage } from "./frame/SessionPage";
import { batchesAgain } from "./model/hand/batches";
import { askForFormats } from "./model/server/soundFormats";
import { theme } from "./parts/theme";
import { SessionsPage } from "./sessions/SessionsPage";

const router = createBrowserRouter([
  { path: "/", element: <SessionsPage />, errorElement: <Broken /> },
  { path: "/s/:id/:stage?", element: <SessionPage />, errorElement: <Broken /> },
  { path: "*", element: <Navigate to="/" replace /> },
]);

batchesAgain();
askForFormats();
createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <MantineProvider theme={theme} defaultColorScheme="auto">
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </MantineProvider>
  </StrictMode>,
);
