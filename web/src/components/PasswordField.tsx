import { Eye, EyeOff } from "lucide-react";
import { useState } from "react";

/** A field for a password, which can be shown while it is typed. */
export function PasswordField({
  label,
  help,
  value,
  onChange,
  fresh = false,
  autoFocus = false,
}: {
  label: string;
  help?: string;
  value: string;
  onChange: (value: string) => void;
  fresh?: boolean; // it is chosen here
  autoFocus?: boolean;
}) {
  const [shown, setShown] = useState(false);
  const Icon = shown ? EyeOff : Eye;
  return (
    <label className="block">
      <span className="label">
        {label} {help && <span className="font-normal">({help})</span>}
      </span>
      <span className="relative block">
        <input
          className="field address pr-10"
          type={shown ? "text" : "password"}
          autoComplete={fresh ? "new-password" : "current-password"}
          spellCheck={false}
          value={value}
          onChange={(e) => onChange(e.target.value)}
          autoFocus={autoFocus}
          required
        />
        <button
          type="button"
          className="absolute top-1/2 right-1 -translate-y-1/2 rounded p-1.5 text-soft hover:text-ink"
          aria-label={shown ? "Hide what is typed" : "Show what is typed"}
          aria-pressed={shown}
          onClick={() => setShown(!shown)}
        >
          <Icon size={16} aria-hidden />
        </button>
      </span>
    </label>
  );
}

/** A field for the code that an app shows now. */
export function CodeField({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  return (
    <label className="block">
      <span className="label">
        Code <span className="font-normal">(that your app shows now)</span>
      </span>
      <input
        className="field address max-w-40"
        inputMode="numeric"
        autoComplete="one-time-code"
        maxLength={7}
        value={value}
        onChange={(e) => onChange(e.target.value)}
        required
      />
    </label>
  );
}
