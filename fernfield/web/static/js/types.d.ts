// What the scripts share. The answers of the API are described in api.d.ts, made from its OpenAPI document.
import type { components } from "./api";

type Schemas = components["schemas"];

export type KeepTo = Schemas["KeepTo-Input"] extends object ? Schemas["KeepTo-Input"] : Schemas["KeepTo"];

/** What the API tells, by the names of its document. */
export type Answers = Schemas;

/** What is shown of a world, and the light that it is shown in. */
export type Show = { [field: string]: any } & { overlays: string[] };
export type Sun = { sun_bearing_deg: number; sun_height_deg: number };

export type Setting = Schemas["SettingTold"];

export type Tool = Omit<Schemas["ToolTold"], "subject"> & { subject: "" | "cover" | "mix" };

export interface Brush {
  radius: number;
  softness: number;
  strength: number;
  shape: string;
  tip: string;
  turn_by: string;
  turn_deg: number;
  own: Record<string, any>;
}

export interface Area {
  plot?: string;
  box?: number[];
  outline?: number[][];
  cover?: string;
}

/** What a rule for covers asks of a post, as the API has it; the page leaves null what may be left out. */
export type CoverCondition = Omit<Schemas["Condition"], "what" | "soft"> & { what: string; soft?: number | null };

export type CoverRule = Omit<Schemas["Rule"], "conditions"> & { conditions: CoverCondition[] };

export type TractFacts = Schemas["TractTold"];

export interface WorldFacts {
  id: string;
  name: string;
  revision: number;
  sea_level_m: number;
  sun_bearing_deg: number;
  sun_height_deg: number;
  width_m: number;
  depth_m: number;
  spacing_m: number;
  tract: string;
  land: {
    rows: number;
    cols: number;
    spacing_m: number;
    west_m: number;
    south_m: number;
    tracts: string[];
    joined: string[];
  };
  can_undo: boolean;
  can_redo: boolean;
  tracts: TractFacts[];
  unread: Schemas["UnreadTold"][];
  [collection: string]: any;
}

export interface Shortcut {
  keys: string[];
  words: string;
  name: string;
  place: string;
  stage: string;
  single: boolean;
}

export type Piece = Schemas["EntryTold"];

export interface Boot {
  world: WorldFacts;
  stages: string[];
  scripts: string[];
  tools: Tool[];
  overlays: Schemas["OverlayTold"][];
  shortcuts: Shortcut[];
  collections: {
    name: string;
    one: string;
    only: string | null;
    in_tract: boolean;
    told: boolean;
    pictured: boolean;
    lies: Record<string, string>;
  }[];
  kit: Record<string, Piece>;
  teams: { team: number; name: string; mark: string; colour: string }[];
  walkers: Record<string, { who: string; colour: string }>;
  walker: { wade_m: number; steepest_deg: number };
  /** What is shown where nobody says otherwise. */
  show: Show;
  /** The figures of light on the ground. */
  daylight: { sun_ink: Ink; sky_ink: Ink } & Record<string, any>;
  /** How the world is lit now. */
  light: Schemas["DaylightTold"];
}

type Ink = [number, number, number];

export interface PageState {
  world: {
    id: string;
    name: string;
    revision: number;
    tract: string;
    tracts: TractFacts[];
    width_m: number;
    depth_m: number;
    sea_level_m: number;
    sun_bearing_deg: number;
    sun_height_deg: number;
  };
  keysOff: boolean;
  /** Whether a picture of the land could not be fetched. */
  missing: string;
  /** Whether the keyboard moves the cursor of the map. */
  byKeys: boolean;
  /** Room on the server's disk where it runs low. [MiB] */
  room_mib: number | null;
  can_undo: boolean;
  can_redo: boolean;
  line: string;
  stage: string;
  shows: string;
  tools: Record<string, string>;
  brushes: Record<string, Brush>;
  keepTo: KeepTo | null;
  mapped: string;
  tried: string | null;
  guise: string | null;
  sun: Sun | null;
  mood: string | null;
  beside: string | null;
  divide: number | null;
  raked: boolean;
  sheet: string;
  folds: Record<string, boolean>;
  tabs: Record<string, string>;
  way: string;
  grows: boolean;
  kindsOff: string[];
  kindsHidden: string[];
  area: Area;
  lastArea: Area | null;
  section_line: number[][] | null;
  marks: number[];
  figures: Figure[];
  walkers: Figure[];
  gone: string[];
  past: number | null;
  progress: any;
  subjects: Record<string, string>;
  view: string;
  plan: { zoom: number; col: number; row: number } | null;
  camera: { x: number; y: number; away: number; bearing: number; tilt: number } | null;
  show: Show & {
    contour_m: number | "auto";
    water: boolean;
    growth: boolean;
    wind: boolean;
    bare: boolean;
    shadows: boolean;
    labels: boolean;
    edges: boolean;
    above: boolean;
    posts: boolean;
    judge: boolean;
    overlays: string[];
    detail: string;
    tide: string;
  };
  lastOverlays: string[];
  shown: number;
  section: boolean;
  cursor: { x: number; y: number } | null;
  place: string | null;
  chosen: string | null;
  drawing: string;
  began: number;
  walking: boolean;
  at: Record<string, number>;
  keys: Record<string, string>;
  readonly tool: string;
  readonly lays: boolean;
  readonly brushed: boolean;
  readonly timed: boolean;
}

declare global {
  interface Window {
    htmx: any;
    bootstrap: any;
    fern: any;
    fernLayout: any;
  }
}

/** Somebody or something that is seen for scale, or walks: on the ground where no elevation is said. [m, °] */
export interface Figure {
  sort: string;
  x: number;
  y: number;
  z?: number;
  facing?: number;
  size?: number;
  name?: string;
}
