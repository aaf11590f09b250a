import type { Preview } from "../api/client";

/** What a change does, before it is done. */
export function Effects({ preview }: { preview: Preview }) {
  return (
    <div className="space-y-2">
      {preview.after && Object.keys(preview.after).length > 0 && (
        <table className="timetable">
          <tbody>
            {Object.entries(preview.after).map(([name, value]) => (
              <tr key={name}>
                <th scope="row">{name}</th>
                <td>{JSON.stringify(preview.before?.[name])}</td>
                <td aria-hidden="true">→</td>
                <td className="font-semibold">{JSON.stringify(value)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <EffectLines texts={preview.effects} />
    </div>
  );
}

/** What something does, a line each. */
export function EffectLines({ texts }: { texts: string[] }) {
  return texts.map((text) => (
    <p key={text}>
      <span className="text-attention" aria-hidden="true">
        ▲{" "}
      </span>
      {text}
    </p>
  ));
}
