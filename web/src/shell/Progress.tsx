// How far something is, as a bar that says what it is about to those who do not see it.
import { ProgressBar } from "react-bootstrap";

export function Progress({
  percent,
  what,
  style,
}: {
  /** 0 to 100. */
  percent: number;
  what: string;
  style?: React.CSSProperties;
}) {
  // The name belongs to the bar itself; the frame around it is nothing that could have one.
  return (
    <ProgressBar style={style}>
      <ProgressBar isChild now={percent} aria-label={what} />
    </ProgressBar>
  );
}
