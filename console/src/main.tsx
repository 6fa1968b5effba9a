import { MutationCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { setNonce } from "get-nonce";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { Refused } from "./api/client";
import { App } from "./app";
import "./styles.css";

// Radix puts style elements into the page while a dialog is open; they need the nonce of this response.
const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce;
if (nonce) setNonce(nonce);

const queries: QueryClient = new QueryClient({
  // After a change, a page that is opened again shows nothing from before it, which would move under the pointer when
  // the new comes in.
  mutationCache: new MutationCache({ onSettled: () => queries.removeQueries({ type: "inactive" }) }),
  defaultOptions: {
    queries: {
      retry: (n, e) => n < 2 && !(e instanceof Refused && e.status >= 400 && e.status < 500),
      staleTime: 1000,
      refetchOnWindowFocus: false,
    },
  },
});

const router = createBrowserRouter([{ path: "*", element: <App /> }]);

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
