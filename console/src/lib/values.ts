/** A form's fields to the values of a run, and back. Pure. */
import type { Parameter } from "../api/client";

/** A parameter of which nothing is said yet. */
export const bare: Parameter = {
  name: "",
  type: "text",
  is_list: false,
  required: true,
  default: null,
  allowed: [],
  note: "",
  labels: {},
  choices: {},
  lookup: {},
  minimum: null,
  maximum: null,
  pattern: "",
  sensitive: false,
  shared: "",
};

export type Field = string | string[] | boolean | undefined | null;

/** What the form shows at first: the default, in the shape its field wants. */
export function firstField(parameter: Parameter): Field {
  const value = parameter.default;
  if (parameter.is_list)
    return Array.isArray(value) ? value.map(String) : value === null || value === undefined ? [] : [text(value)];
  if (parameter.type === "boolean")
    return value === null || value === undefined ? undefined : value === true || value === "true";
  return value === null || value === undefined ? undefined : text(value);
}

const text = (value: unknown): string => (typeof value === "string" ? value : JSON.stringify(value));

/** Values to send: fields left empty are not sent, so that the default counts. */
export function valuesOf(parameters: readonly Parameter[], fields: Record<string, Field>): Record<string, unknown> {
  const values: Record<string, unknown> = {};
  for (const { name } of parameters) {
    const field = fields[name];
    if (field === undefined || field === null || field === "" || (Array.isArray(field) && field.length === 0)) continue;
    values[name] = field;
  }
  return values;
}
