<script lang="ts">
  let { label, value, tone = "" }: { label: string; value: string; tone?: string } = $props();
</script>

<div class="min-w-0">
  <dt class="label-quiet truncate">{label}</dt>
  <dd class={["truncate text-sm font-medium", tone]} title={value}>{value}</dd>
</div>
