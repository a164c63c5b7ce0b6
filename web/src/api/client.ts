import createClient from 'openapi-fetch';
import type { components, paths } from './types';

type Schemas = components['schemas'];
export type Shot = Schemas['Shot'];
export type Emitter = Schemas['Emitter'];
export type Force = Shot['forces'][number];
export type Zone = Schemas['Zone'];
export type Marker = Schemas['Marker'];
export type Lamp = Schemas['Lamp'];
export type Matte = Schemas['Matte'];
export type Solid = Schemas['Solid'];
export type Material = Schemas['Material'];
export type Group = Schemas['Group'];
export type SoundThing = Schemas['Sound'];
export type Wave = Schemas['Wave'];
export type ControlThing = Schemas['Control'];
export type Arrivals = Schemas['Arrivals'];
/** Everything of the cast that has a place. */
export type Placed = Emitter | Force | Zone | Marker | Lamp | Matte;
export type Thing = Placed | Group | SoundThing | ControlThing | Take;
export type Body = Emitter['body'];
export type BodyKind = Schemas['BodyKind'];
export type Finish = Emitter['finish'];
export type Step = Finish[number];
export type Deformer = Emitter['deformers'][number];
export type Use = Schemas['Use'];
export type Note = Schemas['Note'];
export type VersionCard = Schemas['VersionCard'];
export type Tracked = Schemas['Tracked'];
export type Palette = Schemas['Palette'];
export type Key = Schemas['Key-Output'];
export type Scene = Schemas['Scene'];
export type Shown = Schemas['Shown'];
export type Grip = Schemas['Grip'];
export type PresetCard = Schemas['PresetCard'];
export type DrivenBy = Schemas['Source'];
export type Plate = Schemas['Plate'];
export type NumberValue = Schemas['Number'];
export type Curve = Schemas['Curve'];
export type CurvePoint = Schemas['CurvePoint'];
export type Gradient = Schemas['Gradient'];
export type Guides = Schemas['Guides'];
export type ShotState = Schemas['ShotState'];
export type Preparing = Schemas['Preparing'];
export type ComingShot = Schemas['ComingShot'];
export type ShotCard = Schemas['ShotCard'];
export type ProjectCard = Schemas['ProjectCard'];
export type Media = Schemas['Media'];
export type Folder = Schemas['Folder'];
export type Found = Schemas['Found'];
export type Change = Schemas['Change'];
export type SeenParticle = Schemas['Seen'];
export type FollowedParticle = Schemas['Followed'];
export type Presets = Schemas['Presets'];
export type Order = Schemas['Order-Output'];
export type DeliveryCard = Schemas['DeliveryCard'];
export type DeliveryForm = Schemas['DeliveryForm'];
export type Purpose = Schemas['PurposeCard'];
export type Farm = Schemas['FarmCard'];
export type DeliveryPreview = Schemas['DeliveryPreview'];
export type Figures = Schemas['Figures'];
export type LiveHeader = Schemas['Header'];
export type LiveAsk = Schemas['Ask'];
export type SheetAsk = Schemas['SheetAsk'];
export type SheetState = Schemas['SheetState'];
export type SheetHeader = Schemas['SheetHeader'];
export type SheetCell = Schemas['SheetCell'];
export type SheetAxis = Schemas['Axis'];
export type AxisState = Schemas['AxisState'];
export type StageAsk = Schemas['StageAsk'];
export type StageHeader = Schemas['StageHeader'];
export type Trigger = Schemas['Trigger'];
export type SetList = Schemas['SetList-Output'];
export type SetEntry = Schemas['Entry-Output'];
export type Take = Schemas['Take'];
export type TapeTimecode = Schemas['TapeTimecode'];
export type TakeCard = Schemas['TakeCard'];
export type TakeCurve = Schemas['TakeCurve'];
export type Problem = Schemas['Problem'];

/** What the studio refused, in its own words. */
export class Refused extends Error {
  /** status: of the answer; 0 where there was none. */
  constructor(
    readonly problem: Problem,
    readonly status = 0,
  ) {
    super([problem.what, problem.remedy].filter(Boolean).join(' '));
  }
}

async function answered(answer: Response): Promise<Response> {
  if (answer.ok) return answer;
  throw await refusal(answer);
}

async function refusal(answer: Response, known?: unknown): Promise<Refused> {
  const problem: Problem = { what: `The studio answered ${answer.status}.`, where: '', remedy: 'Try again.' };
  try {
    const reported = (known ?? (await answer.json())) as Partial<Problem>;
    return new Refused({ ...problem, ...reported }, answer.status);
  } catch {
    // The answer was not JSON: show its text.
    return new Refused(problem, answer.status);
  }
}

/** The studio's API, typed from its OpenAPI description: every path, its parameters and its answer. */
export const api = createClient<paths>({
  baseUrl: globalThis.location?.origin ?? 'http://localhost',
  fetch: async (request) => {
    try {
      return await fetch(request);
    } catch {
      throw new Refused({
        what: 'The studio does not answer.',
        where: '',
        remedy: 'Check that it is still running.',
      });
    }
  },
});

/** The studio's answer; throws its refusal. */
export async function got<T>(asked: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await asked;
  if (!response.ok) throw await refusal(response, error);
  return data as T;
}

/** Upload a file; its JSON answer. Progress in [0, 1]. */
export function upload<T>(
  method: string,
  url: string,
  file: Blob,
  progress?: (share: number) => void,
): Promise<T> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open(method, url);
    request.upload.onprogress = (event) => progress?.(event.loaded / Math.max(1, event.total));
    request.onerror = () =>
      reject(new Refused({ what: 'The upload broke off.', where: '', remedy: 'Try again.' }));
    request.onload = async () => {
      try {
        const answer = await answered(new Response(request.responseText, { status: request.status }));
        resolve((await answer.json()) as T);
      } catch (error) {
        reject(error);
      }
    };
    request.send(file);
  });
}
