import { Search } from "lucide-react";
import { useEffect, useId, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { get, type Found } from "../api/client";
import { pageOf } from "../lib/address";

/** The box that takes addresses anywhere; / puts the cursor into it. */
export function AddressBox() {
  const input = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  const list = useId();
  const [text, setText] = useState("");
  const [found, setFound] = useState<Found>();
  const [active, setActive] = useState(-1);
  const [open, setOpen] = useState(false);

  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const el = e.target as HTMLElement;
      if (e.key !== "/" || e.ctrlKey || e.metaKey || /^(INPUT|TEXTAREA|SELECT)$/.test(el.tagName) || el.isContentEditable) return;
      e.preventDefault();
      input.current?.focus();
      input.current?.select();
    };
    document.addEventListener("keydown", onKey);
    return () => document.removeEventListener("keydown", onKey);
  }, []);

  useEffect(() => {
    if (!text.trim()) return;
    let stale = false;
    const timer = setTimeout(() => {
      get<Found>("/lookup?address=" + encodeURIComponent(text.trim())).then(
        (f) => !stale && (setFound(f), setActive(-1)),
        () => undefined,
      );
    }, 120);
    return () => {
      stale = true;
      clearTimeout(timer);
    };
  }, [text]);

  const options = text.trim() && found ? [...new Set([...(found.exists ? [found.address] : []), ...found.near])] : [];
  const go = async (address: string) => {
    // Channels, endpoints, watches and chores have addresses alike.
    const is =
      found?.address === address
        ? found
        : await get<Found>("/lookup?address=" + encodeURIComponent(address)).catch(() => undefined);
    const page = pageOf(address, is?.kind);
    if (!page) return;
    setOpen(false);
    setText("");
    input.current?.blur();
    navigate(page);
  };
  const onKeyDown = (e: React.KeyboardEvent) => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      setActive((a) => (a + (e.key === "ArrowDown" ? 1 : -1) + options.length) % Math.max(options.length, 1));
    } else if (e.key === "Enter") {
      const chosen =
        options[active] ?? (found?.exists && found.address === text.trim() ? text.trim() : (options[0] ?? text.trim()));
      void go(chosen);
    } else if (e.key === "Escape") {
      setOpen(false);
    }
  };
  return (
    <div className="relative min-w-0 max-w-xl flex-1">
      <Search size={15} aria-hidden className="absolute top-2.5 left-2.5 text-soft" />
      <input
        ref={input}
        className="field address pl-8"
        role="combobox"
        aria-label="Go to an address"
        aria-expanded={open && options.length > 0}
        aria-controls={list}
        aria-activedescendant={active >= 0 ? `${list}-${active}` : undefined}
        placeholder="address, such as coldchain/readings#3:1200   ( / )"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setOpen(true);
        }}
        onBlur={() => setTimeout(() => setOpen(false), 150)}
        onKeyDown={onKeyDown}
        spellCheck={false}
      />
      {open && text.trim() && found && (
        <div className="absolute inset-x-0 top-full z-40 mt-1 rounded border border-strong bg-sheet py-1 shadow-lg">
          <ul id={list} role="listbox" aria-label="Addresses">
            {options.map((o, i) => (
              <li
                key={o}
                id={`${list}-${i}`}
                role="option"
                aria-selected={i === active}
                className="address cursor-pointer px-3 py-1 aria-selected:bg-seasoft hover:bg-seasoft"
                onMouseDown={() => void go(o)}
              >
                {o}
              </li>
            ))}
          </ul>
          {!found.exists && found.detail && <p className="px-3 py-1 text-[length:var(--text-small)] text-soft">{found.detail}</p>}
        </div>
      )}
    </div>
  );
}
