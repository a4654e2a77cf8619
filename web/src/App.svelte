<script lang="ts">
  import { QueryClient, QueryClientProvider } from "@tanstack/svelte-query";
  import { Router } from "sv-router";
  import { Toaster } from "svelte-sonner";
  import Warnings from "./parts/Warnings.svelte";
  import "./router";

  const queries = new QueryClient({
    defaultOptions: {
      queries: {
        retry: 1,
        refetchOnWindowFocus: false,
        // Answers can be large; what changed is told by the event, not found by comparing them.
        structuralSharing: false,
        staleTime: 30_000,
      },
    },
  });
</script>

<QueryClientProvider client={queries}>
  <Warnings />
  <Router />
  <Toaster theme="system" position="bottom-left" visibleToasts={3} closeButton />
</QueryClientProvider>
