import "@mantine/core/styles.css";
import "@fontsource-variable/literata/standard.css";
import "@fontsource-variable/source-sans-3";
import "./app.css";
import { MantineProvider } from "@mantine/core";
import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { ApiError, isAway } from "./api/http";
import { openDrafts } from "./parts/files/draft";
import { Shell } from "./shell/Shell";
import { theme, variables } from "./theme";

/** An ended session shows as a refusal of the next call: ask who is signed in, and show the form to sign in. */
function lookWhoIsSignedIn(error: Error): void {
  if (error instanceof ApiError && error.status === 401) void queries.invalidateQueries({ queryKey: ["session"] });
}

const ASK_AGAIN_MS = 3_000;

const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({ onError: (error, query) => query.queryKey[0] !== "session" && lookWhoIsSignedIn(error) }),
  // a key that is refused at signing in is told there
  mutationCache: new MutationCache({ onError: (error, _given, _context, mutation) => mutation.meta?.["signsIn"] || lookWhoIsSignedIn(error) }),
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      // a refused call would be refused again; only a missing answer is worth another try
      retry: (count, error) => count < 2 && !(error instanceof ApiError && error.status >= 400 && error.status < 500),
      // a service that was away is asked until it is back: no page has to be loaded again
      refetchInterval: (query) => (isAway(query.state.error) ? ASK_AGAIN_MS : false),
    },
  },
});

await openDrafts();
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <MantineProvider theme={theme} cssVariablesResolver={variables} defaultColorScheme="auto">
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <Shell />
        </BrowserRouter>
      </QueryClientProvider>
    </MantineProvider>,
  );
}
