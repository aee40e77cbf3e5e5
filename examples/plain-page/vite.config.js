import { defineConfig } from "vite";
import { signIn } from "../ferrywell-react/vite.config.js";

// The same server's part as the React example's, and a policy that lets nothing inline in.
const { hostname, port } = new URL(process.env.ORIGIN ?? "http://localhost:5173");
const policy = [
  "default-src 'self'",
  "img-src 'self' http: data:",
  "base-uri 'none'",
  "require-trusted-types-for 'script'",
  "trusted-types 'none'",
];
const place = { host: hostname, port: Number(port), strictPort: true };
const headers = { "content-security-policy": policy.join("; ") };
export default defineConfig({
  plugins: [signIn],
  server: place,
  preview: { ...place, headers },
  build: { modulePreload: { polyfill: false } },
});
