<script lang="ts">
  import { Switch } from 'bits-ui';

  interface Props {
    label: string;
    on: boolean;
    hint?: string;
    onset: (on: boolean) => void;
  }
  let { label, on, hint = '', onset }: Props = $props();
</script>

<label class="flex h-[26px] items-center justify-between border-b border-line" title={hint}>
  <span>{label}</span>
  <Switch.Root
    checked={on}
    onCheckedChange={onset}
    aria-label={label}
    class="h-[15px] w-[27px] rounded-full bg-lamp p-[2px] data-[state=checked]:bg-aurora"
  >
    <Switch.Thumb
      class="block size-[11px] rounded-full bg-ground transition-transform data-[state=checked]:translate-x-3"
    />
  </Switch.Root>
</label>
