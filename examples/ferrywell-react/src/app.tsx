import { AccountsPanel, ForNobody, ForSomebody, PersonMenu, SignInWith, WhileUnknown } from "tenonsaw/react";
import { Slots } from "./slots.js";
import { Tides } from "./tides.js";

export function App() {
  return (
    <>
      <header>
        <strong>Ferrywell</strong>
        <PersonMenu className="person" />
      </header>
      <main>
        <WhileUnknown>
          <p className="soft">One moment…</p>
        </WhileUnknown>
        <ForNobody>
          <h1>The river today</h1>
          <p>Members read the tides, book boats and connect the club's books.</p>
          <p>
            <SignInWith provider="quayside" in="pop-up">
              Sign in with Quayside ID
            </SignInWith>
          </p>
        </ForNobody>
        <ForSomebody>
          {({ name }) => (
            <>
              <h1>Good to see you{name === undefined ? "" : `, ${name}`}</h1>
              <div className="columns">
                <Tides />
                <Slots />
                <AccountsPanel className="card" in="pop-up" />
              </div>
            </>
          )}
        </ForSomebody>
      </main>
      <footer>Ferrywell is an example. The club, its members and its tides are made up.</footer>
    </>
  );
}
