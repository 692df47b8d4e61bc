import { expect, it } from "vitest";
import { above, flat, foldersOf, isBelow } from "./folders";

it("counts what lies in a folder and below it", () => {
  const found = flat(foldersOf(["a/b", "a", "a/b/c", "", "b/x", "a/b"]));
  expect(found.map((f) => `${f.path} ${f.extracts}`)).toEqual(["a 4", "a/b 3", "a/b/c 1", "b 1", "b/x 1"]);
});

it("agrees with a slow reckoning on folders made at random", () => {
  let seed = 7;
  const random = (n: number) => (seed = (seed * 48271) % 2147483647) % n;
  const paths = Array.from({ length: 400 }, () =>
    Array.from({ length: random(4) }, () => "abcd"[random(4)]!).join("/"),
  );
  const found = flat(foldersOf(paths));
  const all = new Set(paths.flatMap((p) => (p ? [...above(p), p] : [])));
  expect(new Set(found.map((f) => f.path))).toEqual(all);
  expect(found.length).toBe(all.size);
  for (const { path, extracts } of found)
    expect([path, extracts]).toEqual([path, paths.filter((p) => isBelow(p, path)).length]);
});

it("takes a folder of a longer name for another", () => {
  expect([isBelow("billing2", "billing"), isBelow("billing/x", "billing"), isBelow("x", "")]).toEqual([
    false,
    true,
    true,
  ]);
});
