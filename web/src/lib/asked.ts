// Conditions that the person at this page has asked for. One that came with the
// address, from wherever the link was, is shown and does not run by itself: it
// would make the service work with this person's rights.
const kept = "asked-conditions";
const most = 50;

function all(): string[] {
  try {
    return JSON.parse(sessionStorage.getItem(kept) ?? "[]") as string[];
  } catch {
    return [];
  }
}

/** The person has pressed what runs the condition. */
export function ask(where: string) {
  sessionStorage.setItem(kept, JSON.stringify([...all().filter((w) => w !== where), where].slice(-most)));
}

/** Whether a condition may run without being asked for. */
export function isAsked(where: string): boolean {
  return where.trim() === "" || all().includes(where);
}
