import '@fontsource-variable/schibsted-grotesk/index.css';
import './app.css';
import { mount } from 'svelte';
import App from './App.svelte';
import { restoreTheme } from './state/theme.svelte';

restoreTheme();
export default mount(App, { target: document.getElementById('app')! });
