import { defineConfig } from "vite";

/** The server's part runs beside the page, in `vite` and in `vite preview`. */
const signIn = {
  name: "sign-in",
  async configureServer({ middlewares }) {
    const { signInMiddleware } = await import("./sign-in.js");
    middlewares.use(await signInMiddleware());
  },
  async configurePreviewServer({ middlewares }) {
    const { signInMiddleware } = await import("./sign-in.js");
    middlewares.use(await signInMiddleware());
  },
};

const port = Number(new URL(process.env.ORIGIN ?? "http://localhost:5173").port);
const place = { host: "localhost", port, strictPort: true };
export default defineConfig({ plugins: [signIn], server: place, preview: place });
