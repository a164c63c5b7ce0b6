<script lang="ts">
  import { arithmetic } from '../ui/arithmetic';

  interface Props {
    label: string;
    value: number;
    low?: number;
    high?: number;
    onset: (value: number) => void;
  }
  let { label, value, low = -2e7, high = 2e7, onset }: Props = $props();

  function put(input: HTMLInputElement): void {
    const found = arithmetic(input.value);
    if (found === null) input.value = String(value);
    else onset(Math.min(high, Math.max(low, found)));
  }
</script>

<label class="block">
  <span class="text-soft">{label}</span>
  <input class="field w-full" inputmode="decimal" {value} onchange={(e) => put(e.currentTarget)} />
</label>
