<script lang="ts">
  // The name with its mark: two threads that cross.
</script>

<span class="inline-flex items-center gap-2 text-[17px] font-bold tracking-tight">
  <svg width="26" height="16" viewBox="0 0 26 16" aria-hidden="true" fill="none" stroke="currentColor" stroke-width="2">
    <path d="M0 4h7l9 8h10" stroke="var(--accent)" />
    <path d="M0 12h7l3-2.7M13 6.7L16 4h10" />
  </svg>
  halvix
</span>
