<script lang="ts">
  const kinds = [
    { word: "VPN", width: 1.8, dash: "" },
    { word: "policy-based", width: 1.8, dash: "11 3" },
    { word: "circuit", width: 6, dash: "" },
    { word: "peering", width: 4.5, dash: "0.1 8" },
    { word: "hub", width: 1.3, dash: "" },
    { word: "planned", width: 1.8, dash: "5 5" },
    { word: "waits", width: 1.8, dash: "2 6", tone: "stroke-warn" },
    { word: "down", width: 1.8, dash: "2 6", tone: "stroke-clash" },
  ];
</script>

<ul class="text-soft flex flex-wrap items-center gap-x-3 text-xs" aria-label="What the lines mean">
  {#each kinds as k (k.word)}
    <li class="flex items-center gap-1">
      <svg width="30" height="10" aria-hidden="true">
        <path
          d="M3 5H27"
          class={k.tone ?? "stroke-link"}
          stroke-width={k.width}
          stroke-dasharray={k.dash}
          stroke-linecap={k.word === "peering" ? "round" : undefined}
        />
        {#if k.word === "circuit"}<path d="M3 5H27" class="stroke-paper" stroke-width="2.6" />{/if}
      </svg>{k.word}
    </li>
  {/each}
</ul>
