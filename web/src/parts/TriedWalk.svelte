<script lang="ts">
  import { useTried, type Change } from "../api/queries";
  import Known from "./Known.svelte";
  import WalkView from "./WalkView.svelte";

  interface Props {
    design: string;
    intent: string;
    edits: Change["edits"];
  }
  const { design, intent, edits }: Props = $props();
  const tried = useTried(
    () => design,
    () => ({ intent, edits }),
  );
</script>

<!-- The walk of an intent as it would be, while nothing is applied. -->
<Known of={tried} what="The walk afterwards" />
{#if tried.data}<WalkView {design} proof={tried.data.proof} tried />{/if}
