import { MutationCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Problem } from "./api/client";
import { App } from "./App";
import "./look/app.css";

const cache: QueryClient = new QueryClient({
  // Somebody else changed it meanwhile: what it is now is shown.
  mutationCache: new MutationCache({
    onError: (error) => {
      if (error instanceof Problem && error.status === 412) void cache.invalidateQueries();
    },
  }),
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      retry: (failures, error) =>
        failures < 2 && !(error instanceof Problem && error.status >= 400 && error.status < 500),
    },
  },
});

createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={cache}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
