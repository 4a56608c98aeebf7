// One part of the recipe in the editor, in the colour of its stage.
import { Marker } from "../shell/Marker";

export function Part({
  kind,
  title,
  aside,
  children,
}: {
  kind: string;
  title: string;
  aside?: React.ReactNode;
  children: React.ReactNode;
}) {
  return (
    <fieldset style={{ "--tone": `var(--${kind})` } as React.CSSProperties}>
      <legend>
        <Marker kind={kind} /> {title}
        {aside && <span className="aside">{aside}</span>}
      </legend>
      <div className="grid">{children}</div>
    </fieldset>
  );
}
