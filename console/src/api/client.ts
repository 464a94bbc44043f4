// Calls to the service by the paths of its OpenAPI document, and errors as problem documents.
import { hmac } from "@noble/hashes/hmac.js";
import { sha256 } from "@noble/hashes/sha2.js";
import { bytesToHex, hexToBytes, utf8ToBytes } from "@noble/hashes/utils.js";
import createClient from "openapi-fetch";
import createQueryClient from "openapi-react-query";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type ActionAnswer = Schemas["ActionAnswer"];
export type AccountSession = Schemas["AccountSession"];
export type AddressKeys = Schemas["AddressKeys"];
export type AccountUse = Schemas["AccountUse"];
export type LiveEvent = Schemas["LiveEvent"];
export type Catalogue = Schemas["CataloguePage"];
export type CatalogueObject = Schemas["CatalogueObject"];
export type ConfigValue = Schemas["ConfigValue"];
export type Code = Schemas["Code"];
export type DecisionRequest = Schemas["DecisionRequest"];
export type Device = Schemas["Device"];
export type DeviceAbout = Schemas["DeviceAbout"];
export type Folder = Schemas["Folder"];
export type ConversationEntry = Schemas["ConversationEntry"];
export type Sighting = Schemas["Sighting"];
export type PreflightCheck = Schemas["PreflightCheck"];
export type FoundThing = Schemas["FoundThing"];
export type House = Schemas["House"];
export type HouseChange = Schemas["HouseChange"];
export type NetworkThing = Schemas["NetworkThing"];
export type NetworkView = Schemas["NetworkView"];
export type NewDevice = Schemas["NewDevice"];
export type Position = Schemas["Position"];
export type ProofStep = Schemas["ProofStep"];
export type SavedRecords = Schemas["SavedRecords"];
export type Scan = Schemas["Scan"];
export type OfferedAction = Schemas["OfferedAction"];
export type Setup = Schemas["Setup"];
export type Status = Schemas["Status"];
export type Stream = Schemas["Stream"];
export type AppliedHouse = Schemas["AppliedHouse"];
export type HandoverDevice = Schemas["HandoverDevice"];
export type Cause = Schemas["Cause"];
export type OffProof = Schemas["OffProof"];
export type Question = Schemas["Question"];
export type Taking = Schemas["Taking"];
export type TestPieces = Schemas["TestPieces"];
export type Walkthrough = Schemas["Walkthrough"];
export type WalkthroughStep = Schemas["WalkthroughStep"];
export type WalkthroughSummary = Schemas["WalkthroughSummary"];
export type StreamList = Schemas["StreamList"];

/** What went wrong, why, and the next step. */
export type Problem = Schemas["Problem"];

declare module "@tanstack/react-query" {
  interface Register {
    defaultError: Problem;
  }
}

/** Where the page keeps its half of the session's token: another port of this host cannot read it. */
const KEPT = "mostra-page-secret";

/** Keeps the secret that every request must carry; without one, forgets it. */
export function keepSecret(secret: string | null) {
  if (secret) window.localStorage.setItem(KEPT, secret);
  else window.localStorage.removeItem(KEPT);
}

function secret(): Record<string, string> {
  const kept = window.localStorage.getItem(KEPT);
  return kept ? { "X-Page-Secret": kept } : {};
}

let keys: AddressKeys | null = null;

/** Keeps what the keys of addresses are made with. */
export function keepAddressKeys(given: AddressKeys | null) {
  keys = given;
}

/** The address of something that the browser fetches by itself, with a key for this session and object. */
export function address(path: string): string {
  if (!keys) return `/api/v1${path}`;
  const object = /^\/catalogue\/[^/]+/.exec(path)?.[0] ?? path;
  const mac = hmac(sha256, hexToBytes(keys.secret), utf8ToBytes(object));
  return `/api/v1${path}?key=${keys.session}.${bytesToHex(mac)}`;
}

/** Fetches a path of the API with the page's secret. */
export function fetchApi(path: string, options: RequestInit = {}): Promise<Response> {
  return fetch(`/api/v1${path}`, { ...options, headers: { ...options.headers, ...secret() } });
}

/** An answer of ours in place of one that the service does not give. */
function problem(document: Omit<Problem, "type">): Response {
  return new Response(JSON.stringify({ type: "about:blank", ...document }), {
    status: document.status || 503,
    headers: { "Content-Type": "application/json" },
  });
}

export const api = createClient<paths>({
  baseUrl: window.location.origin,
  fetch: (request) => globalThis.fetch(request),
});

api.use({
  onRequest({ request }) {
    for (const [name, value] of Object.entries(secret())) request.headers.set(name, value);
  },
  onResponse({ response }) {
    const isJson = response.headers.get("Content-Type")?.includes("json");
    if (response.ok || isJson) return undefined;
    return problem({ title: `The service answered ${response.status}`, status: response.status });
  },
  onError() {
    return problem({
      title: "The service does not answer",
      status: 0,
      next: "Check that the host is on and mostrad runs; this page goes on by itself.",
    });
  },
});

/** Reading by path, with the answers kept. */
export const read = createQueryClient(api);

/** Sends a file of saved records, which is no JSON. */
export async function takeInRecords(
  file: File,
): Promise<{ data: SavedRecords; error: null } | { data: null; error: Problem }> {
  try {
    const answer = await fetchApi("/incoming-records", {
      method: "PUT",
      body: file,
      headers: { "Content-Type": "application/x-tar" },
    });
    const body: unknown = await answer.json();
    return answer.ok ? { data: body as SavedRecords, error: null } : { data: null, error: body as Problem };
  } catch {
    return {
      data: null,
      error: {
        type: "about:blank",
        title: "The file could not be sent",
        status: 0,
        detail: "The service does not answer.",
        next: "Try again in a moment.",
      },
    };
  }
}
