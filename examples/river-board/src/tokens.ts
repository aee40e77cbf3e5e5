// The worker that keeps the tokens. Which provider it is and where tokens may go stands here, and no script of the page can change it.
import { holdTokens } from "tenonsaw/page-worker";

holdTokens({
  provider: {
    issuer: import.meta.env.VITE_QUAYSIDE ?? "http://localhost:4600",
    clientId: "river-board",
    scope: "openid profile offline_access tides.read",
  },
  apis: { tidebook: { origin: import.meta.env.VITE_TIDEBOOK ?? "http://localhost:4601" } },
});
