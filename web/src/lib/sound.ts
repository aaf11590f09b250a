// A sound when an alarm begins, for those who want one: it is off until it is switched on.
import { useEffect, useRef, useState } from "react";

const key = "sound";

/** Two short tones, low enough for an office. */
function ring() {
  const context = new AudioContext();
  const gain = context.createGain();
  gain.gain.value = 0.08;
  gain.connect(context.destination);
  [0, 0.22].forEach((at, i) => {
    const tone = context.createOscillator();
    tone.frequency.value = [660, 520][i]!;
    tone.connect(gain);
    tone.start(context.currentTime + at);
    tone.stop(context.currentTime + at + 0.18);
  });
  setTimeout(() => void context.close(), 1000);
}

/** Rings when there are more alarms than before, if that is wanted. */
export function useSound(alarms: number | undefined): [on: boolean, set: (on: boolean) => void] {
  const [on, setOn] = useState(() => localStorage.getItem(key) === "on");
  const before = useRef<number>(undefined);
  useEffect(() => {
    if (alarms === undefined) return;
    if (on && before.current !== undefined && alarms > before.current) ring();
    before.current = alarms;
  }, [alarms, on]);
  return [
    on,
    (wanted) => {
      localStorage.setItem(key, wanted ? "on" : "off");
      setOn(wanted);
      if (wanted) ring();
    },
  ];
}
