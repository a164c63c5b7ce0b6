const kept = 'isbjorn-letters';

/** Whether single letters are commands; who speaks to the page, or types by chance, switches them off. */
class ShortcutSettings {
  on = $state(localStorage.getItem(kept) !== 'off');

  toggle(): void {
    this.on = !this.on;
    localStorage.setItem(kept, this.on ? 'on' : 'off');
  }
}

export const shortcutSettings = new ShortcutSettings();
