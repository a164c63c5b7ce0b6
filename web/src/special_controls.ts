/** The controls of fields whose type does not say how they are edited; the schema names them (`shown_as`). */
import DrawingField from './body/DrawingField.svelte';
import FontField from './body/FontField.svelte';
import ModelFile from './body/ModelFile.svelte';
import ToneCurve from './finish/ToneCurve.svelte';
import PointsField from './properties/PointsField.svelte';
import ShapeField from './pieces/ShapeField.svelte';
import FileRow from './fields/FileRow.svelte';
import MomentField from './fields/MomentField.svelte';
import { controls } from './fields/controls';

Object.assign(controls, {
  picture: FileRow,
  model: ModelFile,
  font: FontField,
  drawing: DrawingField,
  points: PointsField,
  'tone curve': ToneCurve,
  moment: MomentField,
  seconds: MomentField,
  shape: ShapeField,
});
