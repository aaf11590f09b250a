/** Why something did not work; nothing when the text is empty. */
export function Failure({ text }: { text: string | undefined }) {
  if (!text) return null;
  return (
    <p role="alert" className="text-alarm">
      <span aria-hidden="true">■ </span>
      {text}
    </p>
  );
}
