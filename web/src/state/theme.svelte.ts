export type Theme = 'polar-night' | 'snowfield';

class ThemeState {
  name = $state<Theme>('polar-night');

  set(name: Theme): void {
    this.name = name;
    document.documentElement.dataset.theme = name;
    localStorage.setItem('isbjorn.theme', name);
  }

  toggle(): void {
    this.set(this.name === 'polar-night' ? 'snowfield' : 'polar-night');
  }
}

export const theme = new ThemeState();

export function restoreTheme(): void {
  theme.set(localStorage.getItem('isbjorn.theme') === 'snowfield' ? 'snowfield' : 'polar-night');
}
