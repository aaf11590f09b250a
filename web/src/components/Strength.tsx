import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call, type Strength as Judged } from "../api/client";
import { Mark } from "./Mark";

const pause = 400;

/** How hard the password is to guess that is typed, as the service judges it. */
export function Strength({ invitation, password }: { invitation: string; password: string }) {
  const [settled, setSettled] = useState("");
  useEffect(() => {
    const later = setTimeout(() => setSettled(password), pause);
    return () => clearTimeout(later);
  }, [password]);
  const judged = useQuery({
    queryKey: ["strength", settled],
    queryFn: () => call<Judged>("POST", "/sign-in/invitation/accept?preview=true", { invitation, password: settled }),
    enabled: settled !== "",
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
  });
  const { data } = judged;
  return (
    <p role="status" className="min-h-12 text-[length:var(--text-small)]">
      {password && data && (
        <>
          <Mark state={data.taken ? "ready" : "attention"} word={data.taken ? data.says : "not taken"} />
          {data.why && <span className="text-soft"> {data.why}</span>}
        </>
      )}
    </p>
  );
}
