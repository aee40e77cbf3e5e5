// Tidebook by itself: `npx tenonsaw practice` in one terminal, this in another.
import { serve } from "@hono/node-server";
import { createTidebook } from "./tidebook.js";

const tidebook = await createTidebook({
  issuer: process.env.ISSUER ?? "http://localhost:4600",
  audience: "http://localhost:5173",
  development: true,
});
serve({ fetch: tidebook.fetch, port: 5173, hostname: "localhost" });
