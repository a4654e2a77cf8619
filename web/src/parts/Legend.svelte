<script lang="ts">
  const kinds = [
    { word: "VPN", width: 1.8, dash: "" },
    { word: "policy-based", width: 1.8, dash: "11 3" },
    { word: "circuit", width: 6, dash: "" },
    { word: "peering", width: 4.5, dash: "" },
    { word: "hub", width: 1.3, dash: "" },
    { word: "planned", width: 1.8, dash: "5 5" },
    { word: "ends differ", width: 1.8, dash: "", tone: "stroke-warn" },
    { word: "waits", width: 1.8, dash: "2 6", tone: "stroke-warn" },
    { word: "down", width: 1.8, dash: "2 6", tone: "stroke-clash" },
    { word: "collides: broken", width: 3, dash: "7 3", tone: "stroke-clash" },
    { word: "at risk", width: 2, dash: "7 3", tone: "stroke-clash" },
    { word: "untidy", width: 2, dash: "3 3", tone: "stroke-rule" },
    { word: "answered", width: 2, dash: "2 4", tone: "stroke-good" },
  ];
</script>

<ul class="text-soft flex flex-wrap items-center gap-x-3 text-xs" aria-label="What lines and signs mean">
  {#each kinds as k (k.word)}
    <li class="flex items-center gap-1">
      <svg width="28" height="10" aria-hidden="true">
        <path d="M2 5H26" class={k.tone ?? "stroke-link"} stroke-width={k.width} stroke-dasharray={k.dash} />
        {#if k.word === "circuit"}<path d="M2 5H26" class="stroke-paper" stroke-width="2.6" />{/if}
      </svg>{k.word}
    </li>
  {/each}
  <li><span class="text-clash font-mono font-semibold">×</span> broken</li>
  <li><span class="text-warn font-mono font-semibold">!</span> at risk</li>
  <li class="flex items-center gap-1">
    <svg width="10" height="12" aria-hidden="true"
      ><path d="M0 8L8 0M0 14L10 4" class="stroke-clash" stroke-width="2.2" /></svg
    >range that collides
  </li>
</ul>
