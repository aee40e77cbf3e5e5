import { defineConfig } from "vite";

// A static page: `vite build` makes files that any server of files can serve.
const { hostname, port } = new URL(process.env.ORIGIN ?? "http://localhost:5173");
const place = { host: hostname, port: Number(port), strictPort: true };
export default defineConfig({
  server: place,
  preview: place,
  // What is needed to sign in is then loaded when somebody does.
  worker: { format: "es" },
});
