import { createRouter } from "sv-router";
import { withSide } from "./lib/side";
import Frame from "./Frame.svelte";
import Designs from "./places/Designs.svelte";
import Estate from "./places/Estate.svelte";
import Handover from "./places/Handover.svelte";
import Links from "./places/Links.svelte";
import Ledger from "./places/Ledger.svelte";
import Lost from "./places/Lost.svelte";
import Overlaps from "./places/Overlaps.svelte";
import Passes from "./places/Passes.svelte";
import Plan from "./places/Plan.svelte";
import Proof from "./places/Proof.svelte";
import Routes from "./places/Routes.svelte";

const router = createRouter({
  "/": Designs,
  "/designs/:design": {
    "/estate": Estate,
    "/overlaps": Overlaps,
    "/plan": Plan,
    "/links": Links,
    "/routes": Routes,
    "/ledger": Ledger,
    "/proof": Proof,
    "/passes": Passes,
    "/handover": Handover,
    layout: Frame,
  },
  "*": Lost,
});

export const { p, route } = router;

/** Goes to a place of a design; search is the state of its view. */
export function goTo(design: string, place: string, search: Record<string, string> = {}): void {
  void router.navigate(`/designs/:design/${place as "estate"}`, {
    params: { design },
    search: withSide(search),
  });
}
