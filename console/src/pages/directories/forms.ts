import type { Schema } from "../../api/client";

type Form = Schema["ConfigForm"];

/** Forms are written as people write them: @suffix, PREFIX\, bare. */
export const formText = (f: Form) =>
  f.kind === "suffix" ? "@" + f.value : f.kind === "prefix" ? f.value + "\\" : "bare";
export const readForm = (text: string): Form =>
  text.endsWith("\\")
    ? { kind: "prefix", value: text.slice(0, -1) }
    : text.toLowerCase() === "bare"
      ? { kind: "bare" }
      : { kind: "suffix", value: text.replace(/^@/, "") };
