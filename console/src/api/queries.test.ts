import { QueryObserver } from "@tanstack/react-query";
import { expect, test } from "vitest";
import { Queries } from "./queries";

test("a change made while the first answer is on its way is asked for anew", async () => {
  const queries = new Queries();
  const answers: ((told: string) => void)[] = [];
  const queryFn = () => new Promise<string>((resolve) => answers.push(resolve));
  const seen = new QueryObserver(queries, { queryKey: ["favourites"], queryFn });
  const stop = seen.subscribe(() => undefined);
  const asked = queries.invalidateQueries({ queryKey: ["favourites"] });
  await expect.poll(() => answers.length).toBe(2);
  answers[0]?.("before the change");
  answers[1]?.("after it");
  await asked;
  expect(seen.getCurrentResult().data).toBe("after it");
  stop();
});
