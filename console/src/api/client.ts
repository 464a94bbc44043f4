// Calls to the service, with the CSRF token and errors as problem documents.
import type { components } from "./schema";

type Schemas = components["schemas"];
export type AccountSession = Schemas["AccountSession"];
export type AccountUse = Schemas["AccountUse"];
export type LiveEvent = Schemas["LiveEvent"];
export type Catalogue = Schemas["CataloguePage"];
export type CatalogueObject = Schemas["CatalogueObject"];
export type Code = Schemas["Code"];
export type Continued = Schemas["Continued"];
export type Position = Schemas["Position"];
export type ScanReports = Schemas["ScanReports"];
export type ConsoleAccess = Schemas["ConsoleAccess"];
export type Device = Schemas["Device"];
export type Folder = Schemas["Folder"];
export type House = Schemas["House"];
export type LeftOut = Schemas["LeftOutList"];
export type Places = Schemas["Places"];
export type ProofStep = Schemas["ProofStep"];
export type Scan = Schemas["Scan"];
export type Session = Schemas["Session"];
export type Setup = Schemas["Setup"];
export type Status = Schemas["Status"];
export type Stream = Schemas["Stream"];
export type Streams = Schemas["Streams"];
type ProblemDocument = Schemas["Problem"];

/** What went wrong, why, and the next step. */
export class Problem extends Error {
  readonly status: number;
  readonly detail?: string;
  readonly next?: string;

  constructor(document: Partial<ProblemDocument>) {
    super(document.title ?? "Something went wrong");
    this.status = document.status ?? 0;
    this.detail = document.detail ?? undefined;
    this.next = document.next ?? undefined;
  }
}

let csrf = "";

/** Remembers the token that every change must carry. */
export function keepToken(token: string) {
  csrf = token;
}

/** Calls the service below /api/v1. */
export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(`/api/v1${path}`, {
      method,
      headers: {
        ...(body === undefined ? {} : { "Content-Type": "application/json" }),
        ...(csrf ? { "X-CSRF-Token": csrf } : {}),
      },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Problem({
      title: "The service does not answer",
      next: "Check that the host is on and mostrad runs; this page goes on by itself.",
    });
  }
  if (!answer.ok) {
    throw new Problem(await answer.json().catch(() => ({ title: `The service answered ${answer.status}`, status: answer.status })));
  }
  return (answer.status === 204 ? undefined : await answer.json()) as T;
}

export const get = <T,>(path: string) => call<T>("GET", path);
