import { defineConfig } from "vite";

const {
  ORIGIN: origin = "http://localhost:5173",
  VITE_QUAYSIDE: quayside = "http://localhost:4600",
  VITE_TIDEBOOK: tidebook = "http://localhost:4601",
} = process.env;

// A static page: `vite build` makes files that any server of files can serve, with this header: it keeps foreign scripts out,
// and lets the page ask its provider in a frame, which sends the frame back here.
const policy = [
  "default-src 'self'",
  `connect-src 'self' ${quayside} ${tidebook}`,
  `frame-src 'self' ${quayside}`,
  "worker-src 'self'",
  "img-src 'self' data:",
  "base-uri 'none'",
  "object-src 'none'",
  "frame-ancestors 'self'",
];
const { hostname, port } = new URL(origin);
const place = { host: hostname, port: Number(port), strictPort: true };
export default defineConfig({
  server: place,
  preview: { ...place, headers: { "content-security-policy": policy.join("; ") } },
  // What is needed to sign in is then loaded when somebody does.
  worker: { format: "es" },
});
