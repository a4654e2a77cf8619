<script lang="ts">
  import { p } from "../router";
</script>

<p class="p-8">There is nothing at this address. <a href={p("/")}>All designs</a></p>
