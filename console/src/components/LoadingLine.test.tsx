// @vitest-environment jsdom
import { act, screen, waitFor } from "@testing-library/react";
import { useQuery } from "@tanstack/react-query";
import { describe, expect, it } from "vitest";
import { api, must } from "../api/client";
import { answer, draw, standIn } from "../testing/harness";
import { LoadingLine } from "./LoadingLine";

standIn();

function Page({ asked }: { asked: string }) {
  useQuery({ queryKey: [asked], queryFn: () => must(api.GET("/api/v1/workers")) });
  return <LoadingLine />;
}

describe("what is waited for", () => {
  it("is told once it takes a moment, and no longer than that", async () => {
    let arrive: (workers: Response) => void = () => undefined;
    answer("GET /workers", () => Response.json([]));
    const before = globalThis.fetch;
    globalThis.fetch = () => new Promise((resolve) => (arrive = resolve));
    draw(<Page asked="workers" />);
    expect(screen.getByRole("status").textContent).toBe("");
    await waitFor(() => expect(screen.getByRole("status").textContent).toBe("Loading the workers…"));
    act(() => arrive(Response.json([])));
    await waitFor(() => expect(screen.getByRole("status").textContent).toBe(""));
    globalThis.fetch = before;
  });

  it("is nothing that only stands beside", async () => {
    const before = globalThis.fetch;
    globalThis.fetch = () => new Promise(() => undefined);
    draw(<Page asked="status" />);
    await act(() => new Promise((resolve) => setTimeout(resolve, 400)));
    expect(screen.getByRole("status").textContent).toBe("");
    globalThis.fetch = before;
  });
});
