import { defineConfig } from "vite";

// A static page: `vite build` makes files that any server of files can serve.
const { hostname, port } = new URL(process.env.ORIGIN ?? "http://localhost:5173");
const place = { host: hostname, port: Number(port), strictPort: true };
export default defineConfig({
  server: place,
  preview: place,
  build: { target: "es2022" },
  worker: { format: "es" },
});
