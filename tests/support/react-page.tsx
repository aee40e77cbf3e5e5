import { StrictMode, useState } from "react";
import { createRoot, hydrateRoot } from "react-dom/client";
import { renderToString } from "react-dom/server";
import { createPageSession, type PageSession, type SessionNow } from "tenonsaw/browser";
import {
  ForNobody,
  ForSomebody,
  ProviderButtons,
  PageSessionScope,
  PersonMenu,
  SignInWith,
  WhileUnknown,
} from "tenonsaw/react";

function pageOf(first: SessionNow | undefined) {
  const session = createPageSession(first ? { first } : {});
  return (
    <StrictMode>
      <PageSessionScope session={session} language="de">
        <PersonMenu />
        <WhileUnknown>moment</WhileUnknown>
        <ForNobody>
          <SignInWith provider="quayside" />
        </ForNobody>
        <ForSomebody>{({ name = "" }) => <h1>{name}</h1>}</ForSomebody>
      </PageSessionScope>
    </StrictMode>
  );
}

/** On the server. */
export const render = (first?: SessionNow): string => renderToString(pageOf(first));

/** In the page. */
export const hydrate = (first?: SessionNow): unknown =>
  hydrateRoot(document.getElementById("root") ?? document.body, pageOf(first));

/** On the server, with something else in place of a session; and with nothing around a part. */
export const renderWith = (session: unknown): string =>
  renderToString(<PageSessionScope session={session as PageSession} />);
export const renderAlone = (): string => renderToString(<PersonMenu />);

/** A page that makes its session whenever it draws. */
function Anew() {
  const [drawings, setDrawings] = useState(1);
  return (
    <PageSessionScope session={createPageSession({ first: { signedIn: false } })}>
      <button onClick={() => setDrawings(drawings + 1)}>Draw</button>
      <SignInWith provider="quayside" data-testid="way in" />
    </PageSessionScope>
  );
}
export const drawAnew = (): void =>
  createRoot(document.getElementById("root") ?? document.body).render(<Anew />);

/** A page with something of its own around what is loaded. */
export const drawProviders = (): void =>
  createRoot(document.getElementById("root") ?? document.body).render(
    <PageSessionScope session={createPageSession({ first: { signedIn: false } })} language="de">
      <h1>The river today</h1>
      <ProviderButtons />
    </PageSessionScope>,
  );
