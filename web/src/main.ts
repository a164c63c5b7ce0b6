import '@fontsource-variable/schibsted-grotesk/index.css';
import './app.css';
import { mount } from 'svelte';
import App from './App.svelte';
import DrawingField from './body/DrawingField.svelte';
import FontField from './body/FontField.svelte';
import ModelFile from './body/ModelFile.svelte';
import ToneCurve from './finish/ToneCurve.svelte';
import PointsField from './properties/PointsField.svelte';
import { restoreTheme } from './state/theme.svelte';
import { controls } from './fields/controls';
import FileRow from './fields/FileRow.svelte';
import MomentField from './fields/MomentField.svelte';

Object.assign(controls, {
  picture: FileRow,
  model: ModelFile,
  font: FontField,
  drawing: DrawingField,
  points: PointsField,
  'tone curve': ToneCurve,
  moment: MomentField,
  seconds: MomentField,
});
restoreTheme();
export default mount(App, { target: document.getElementById('app')! });
