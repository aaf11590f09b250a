// What whoever is signed in may do, for pages that show only a part or leave out what is refused.
import { useQuery } from "@tanstack/react-query";
import { get, type SignIn } from "../api/client";

/** The session, with what it may do. */
export const useSession = () =>
  useQuery({
    queryKey: ["session"],
    queryFn: () => get<SignIn>("/session"),
    staleTime: 60_000,
  });

/** What whoever is signed in may do at an address; everything until it is known, so that nothing flickers. */
export function useVerbs(address: string) {
  const verbs = useQuery({
    queryKey: ["verbs", address],
    queryFn: () => get<{ items: string[] }>(`/may/verbs?address=${encodeURIComponent(address)}`),
    staleTime: 60_000,
    enabled: address !== "",
  });
  return (verb: string) => verbs.data?.items.includes(verb) ?? true;
}

/** What whoever is signed in may do: everywhere, or on something at least. */
export function useRights() {
  const session = useSession().data;
  return {
    name: session?.name ?? "",
    account: session?.account ?? false, // signed in with an account here
    everywhere: (verb: string) => session?.everywhere.includes(verb) ?? false,
    somewhere: (verb: string) => session?.somewhere.includes(verb) ?? false,
  };
}
