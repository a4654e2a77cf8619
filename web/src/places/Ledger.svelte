<script lang="ts">
  import { useLedger } from "../api/queries";
  import { urlState } from "../lib/url.svelte";
  import Known from "../parts/Known.svelte";
  import LedgerView from "../parts/LedgerView.svelte";
  import { route } from "../router";

  const design = $derived(route.params.design ?? "");
  const address = urlState("address");
  const ledger = useLedger(() => design);
</script>

<div class="flex h-full flex-col">
  <Known of={ledger} what="The ledger" />
  {#if ledger.data}
    <LedgerView {design} ledger={ledger.data} address={address.value} ask={(a) => (address.value = a)} />
  {/if}
</div>
