import { useQuery } from "@tanstack/react-query";
import { api, must } from "../../api/client";
import { becomes } from "./person";

/** The page says whether its session is signed in, so that a stranger's first look asks for nothing it cannot have. */
export const signedInAtStart =
  document.querySelector<HTMLMetaElement>('meta[name="ladle-session"]')?.content !== "none";

const order = ["reader", "runner", "author", "administrator"];

/** Who is signed in, and what the role reaches. */
export function useMe() {
  const me = useQuery({
    queryKey: ["me"],
    queryFn: async ({ client }) => {
      const found = await must(api.GET("/api/v1/me"));
      becomes(client, found.name);
      return found;
    },
    retry: false,
    staleTime: Infinity,
    enabled: signedInAtStart,
  });
  const may = (role: string) => !!me.data && order.indexOf(me.data.role) >= order.indexOf(role);
  return { me, may };
}
