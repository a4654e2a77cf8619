<script lang="ts">
  import { useAbout } from "../api/queries";

  const about = useAbout();
</script>

{#each about.data?.warnings ?? [] as text (text)}
  <p class="border-clash bg-mark text-ink flex gap-2 border-b-2 px-4 py-1 text-sm" role="status">
    <strong class="text-clash">Beware</strong>{text}
  </p>
{/each}
