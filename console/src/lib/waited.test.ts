import { expect, test } from "vitest";
import { ASIDE, WAITED, waitedFor } from "./waited";

const files = import.meta.glob<string>("../**/*.{ts,tsx}", { query: "?raw", import: "default", eager: true });

test("every query is one that a page tells of, or stands aside", () => {
  const keys = new Set(
    Object.values(files).flatMap((text) =>
      [...text.matchAll(/(?:queryKey: |usePages(?:<\w+>)?\(\s*)\[\s*"([\w-]+)"/g)].map((found) => found[1]!),
    ),
  );
  expect(keys.size).toBeGreaterThan(40);
  expect([...keys].filter((key) => !(key in WAITED) && !ASIDE.has(key))).toEqual([]);
  expect(Object.keys(WAITED).filter((key) => !keys.has(key))).toEqual([]);
});

test("all that is waited for is one sentence", () => {
  expect(waitedFor([])).toBe("");
  expect(waitedFor(["status", "bell"])).toBe("");
  expect(waitedFor(["run"])).toBe("Loading the run…");
  expect(waitedFor(["run", "log", "run", "files"])).toBe("Loading the run and the run log…");
  expect(waitedFor(["night", "run", "log"])).toBe("Loading the night, the run and the run log…");
});
