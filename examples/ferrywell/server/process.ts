// One of several processes of Ferrywell behind a balancer: told by its environment where everything is.
import { serveFerrywell, type FerrywellPlace } from "./serve-ferrywell.js";

const place = JSON.parse(process.env["FERRYWELL_PLACE"] ?? "{}") as FerrywellPlace;
const ferrywell = await serveFerrywell(0, {
  ...place,
  log: (line) => {
    console.log(`[${place.number}] ${line}`);
  },
});
// Ctrl-C goes to all processes of a terminal; this one ends when the one that started it says so.
process.on("SIGINT", () => undefined);
process.on("disconnect", () => void ferrywell.stop().then(() => process.exit(0)));
process.send?.({ origin: ferrywell.origin });
