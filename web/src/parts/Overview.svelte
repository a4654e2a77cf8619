<script lang="ts">
  import type { Box, Picture } from "../lib/picture";

  interface Props {
    picture: Picture;
    /** What is in sight. */
    seen: Box;
    /** Brings a place into the middle. */
    go: (x: number, y: number) => void;
  }
  const { picture, seen, go }: Props = $props();
  const width = 168;
  const k = $derived(Math.min(width / picture.width, 64 / picture.height));
</script>

<!-- The pointer's way; keys move the picture itself. -->
<!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_noninteractive_element_interactions -->
<svg
  width={picture.width * k}
  height={picture.height * k}
  class="border-rule bg-paper shrink-0 border"
  role="img"
  aria-label="Overview: which part is in sight"
  onclick={(e) => go(e.offsetX / k, e.offsetY / k)}
>
  {#each picture.parties as x (x.party.id)}
    <rect
      x={x.x * k}
      y={x.y * k}
      width={x.width * k}
      height={Math.max(1.5, x.height * k)}
      class={x.party.worst === "broken" ? "fill-clash" : x.party.worst === "risk" ? "fill-warn" : "fill-rule"}
    />
  {/each}
  <rect
    x={seen.x * k}
    y={seen.y * k}
    width={seen.w * k}
    height={seen.h * k}
    class="stroke-ink fill-transparent"
    stroke-width="1.5"
  />
</svg>
