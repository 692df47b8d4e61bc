import { useQuery } from "@tanstack/react-query";
import { api, must } from "../../api/client";

const order = ["reader", "runner", "author", "administrator"];

/** Who is signed in, and what the role reaches. */
export function useMe() {
  const me = useQuery({ queryKey: ["me"], queryFn: () => must(api.GET("/api/v1/me")), retry: false, staleTime: Infinity });
  const may = (role: string) => !!me.data && order.indexOf(me.data.role) >= order.indexOf(role);
  return { me, may };
}
