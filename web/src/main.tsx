import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import "sonner/dist/styles.css";
import { Problem } from "./api/client";
import { App } from "./App";
import "./styles/base.css";

// Radix adds a style of its own while a dialog is open.
(globalThis as { __webpack_nonce__?: string }).__webpack_nonce__ =
  document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content;

const client = new QueryClient({
  defaultOptions: {
    // What the service has explained is no better the next time; what it could not answer may be.
    queries: { refetchOnWindowFocus: false, retry: (n, e) => !(e instanceof Problem) && n < 3 },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <App />
    </QueryClientProvider>
  </StrictMode>,
);
