// Streams of events. A page that the browser keeps for going back to must not
// keep its streams: a few of them take all the connections that the browser
// makes to one host, and the next page waits for ever.
const open = new Set<EventSource>();

addEventListener("pagehide", () => {
  open.forEach((s) => s.close());
  open.clear();
});
addEventListener("pageshow", (e) => {
  if (e.persisted) location.reload(); // its streams are gone, and what it shows is old
});

export function openStream(path: string): EventSource {
  const source = new EventSource(path);
  open.forEach((s) => s.readyState === EventSource.CLOSED && open.delete(s));
  open.add(source);
  return source;
}
