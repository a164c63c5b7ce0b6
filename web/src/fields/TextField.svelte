<script lang="ts">
  interface Props {
    label: string;
    value: string;
    hint?: string;
    onset: (value: string) => void;
  }
  let { label, value, hint = '', onset }: Props = $props();
</script>

<label class="flex h-[26px] items-center justify-between gap-2 border-b border-line" title={hint}>
  <span class="shrink-0">{label}</span>
  <input
    class="w-full min-w-0 max-w-[150px] rounded bg-well px-1.5 text-right"
    {value}
    onchange={(e) =>
      e.currentTarget.value.trim() ? onset(e.currentTarget.value) : (e.currentTarget.value = value)}
    onkeydown={(e) => {
      e.stopPropagation();
      if (e.key === 'Enter') e.currentTarget.blur();
    }}
  />
</label>
