import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createPageSession } from "tenonsaw/browser";
import { PageSessionScope, WayOut } from "tenonsaw/react";
import { App } from "./app.js";

const session = createPageSession();
const root = document.getElementById("root") ?? document.body;
createRoot(root).render(
  <StrictMode>
    <PageSessionScope session={session} language="en-GB">
      <WayOut>
        <App />
      </WayOut>
    </PageSessionScope>
  </StrictMode>,
);
