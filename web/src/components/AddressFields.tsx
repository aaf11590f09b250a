import { useQuery } from "@tanstack/react-query";
import { get, type Space } from "../api/client";

/** The names of all spaces; undefined until they have come. */
export function useSpacesOnceKnown(): string[] | undefined {
  const spaces = useQuery({ queryKey: ["spaces"], queryFn: () => get<{ items: Space[] }>("/spaces?limit=1000") });
  return spaces.data?.items.map((s) => s.space);
}

/** The names of all spaces, none until they have come. */
export const useSpaces = (): string[] => useSpacesOnceKnown() ?? [];

/** The space and the name of something new in it. */
export function AddressFields({
  spaces,
  space,
  name,
  onChange,
}: {
  spaces: string[];
  space: string;
  name: string;
  onChange: (part: { space?: string; name?: string }) => void;
}) {
  return (
    <>
      <label className="block">
        <span className="label">Space</span>
        <select className="field address" value={space} onChange={(e) => onChange({ space: e.target.value })}>
          {spaces.map((s) => (
            <option key={s}>{s}</option>
          ))}
        </select>
      </label>
      <label className="block">
        <span className="label">Name</span>
        <input className="field address" value={name} onChange={(e) => onChange({ name: e.target.value })} required autoFocus />
      </label>
    </>
  );
}
