const kept = 'isbjorn-letters';

/** Whether single keys are shortcuts; people who use speech input, or type by accident, can switch them off. */
class ShortcutSettings {
  on = $state(localStorage.getItem(kept) !== 'off');

  toggle(): void {
    this.on = !this.on;
    localStorage.setItem(kept, this.on ? 'on' : 'off');
  }
}

export const shortcutSettings = new ShortcutSettings();
