/** Drafts as the service keeps them: of an extract by its name, of a new text by a key of its own. */
import { api, must, Problem, type KeptDraft } from "../../api/client";
import type { Draft } from "./useDraft";

/** `extract NAME`, or `new KEY`. */
export type Place = `extract ${string}` | `new ${string}`;

const nameIn = (place: Place) => place.slice(place.indexOf(" ") + 1);
const ofExtract = (place: Place) => place.startsWith("extract ");

export function readDraft(place: Place): Promise<KeptDraft> {
  return ofExtract(place)
    ? must(api.GET("/api/v1/extracts/{name}/draft", { params: { path: { name: nameIn(place) } } }))
    : must(api.GET("/api/v1/drafts/{key}", { params: { path: { key: nameIn(place) } } }));
}

export function keepDraft(place: Place, draft: Draft, version: number): Promise<KeptDraft> {
  const { base, ...content } = draft;
  const body = { version, base: base || null, content };
  return ofExtract(place)
    ? must(api.PUT("/api/v1/extracts/{name}/draft", { params: { path: { name: nameIn(place) } }, body }))
    : must(api.PUT("/api/v1/drafts/{key}", { params: { path: { key: nameIn(place) } }, body }));
}

/** It is gone, also where it was dropped in another window before. */
export async function dropDraft(place: Place, version?: number): Promise<void> {
  const query = version === undefined ? {} : { version };
  try {
    await (ofExtract(place)
      ? must(api.DELETE("/api/v1/extracts/{name}/draft", { params: { path: { name: nameIn(place) }, query } }))
      : must(api.DELETE("/api/v1/drafts/{key}", { params: { path: { key: nameIn(place) }, query } })));
  } catch (error) {
    if (!(error instanceof Problem && error.status === 404)) throw error;
  }
}
