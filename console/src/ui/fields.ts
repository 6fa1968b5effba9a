import { useQuery } from "@tanstack/react-query";
import { call, type Schema } from "../api/client";

export type Tree = Schema["ResultsTree"];

export type FieldInfo = Schema["Field"];

export const useFields = (lane?: boolean) =>
  useQuery({
    queryKey: ["fields", !!lane],
    queryFn: () => call<{ items: FieldInfo[] }>("GET", `/fields?lane=${!!lane}`),
    staleTime: Infinity,
  }).data?.items ?? [];

export const useCompletions = (field: string, q: string, enabled = true) =>
  useQuery({
    queryKey: ["completions", field, q],
    staleTime: 30_000,
    enabled: enabled && field !== "",
    placeholderData: (b) => b,
    queryFn: () =>
      call<{ items: Schema["Completion"][] }>(
        "GET",
        `/completions?field=${encodeURIComponent(field)}&q=${encodeURIComponent(q)}`,
      ),
  }).data?.items ?? [];

/** The field that a written name stands for. */
export const fieldOf = (fields: FieldInfo[], name: string) => {
  const lower = name.toLowerCase();
  return (
    fields.find((f) => f.name === lower) ??
    fields.find((f) => f.name.endsWith("*") && lower.length >= f.name.length && lower.startsWith(f.name.slice(0, -1)))
  );
};
