import { createRouter } from "sv-router";
import Frame from "./Frame.svelte";
import Designs from "./places/Designs.svelte";
import Estate from "./places/Estate.svelte";
import Handover from "./places/Handover.svelte";
import Lost from "./places/Lost.svelte";
import Overlaps from "./places/Overlaps.svelte";
import Proof from "./places/Proof.svelte";
import Translation from "./places/Translation.svelte";

export const { p, navigate, route } = createRouter({
  "/": Designs,
  "/designs/:design": {
    "/estate": Estate,
    "/overlaps": Overlaps,
    "/translation": Translation,
    "/proof": Proof,
    "/handover": Handover,
    layout: Frame,
  },
  "*": Lost,
});
