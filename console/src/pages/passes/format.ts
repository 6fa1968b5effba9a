import { type Schema } from "../../api/client";

export type Pass = Schema["Pass"];

export const duration = (s: number) => (s % 3600 === 0 ? `${s / 3600} h` : s % 60 === 0 ? `${s / 60} min` : `${s} s`);
