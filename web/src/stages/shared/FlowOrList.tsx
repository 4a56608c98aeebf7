// A ranking as a picture or as a list.
import { Segments } from "../../shell/Segments";

export type Shape = "flow" | "list";

export function FlowOrList({ shape, choose }: { shape: Shape; choose: (shape: Shape) => void }) {
  return (
    <Segments
      options={[
        ["flow", "flow"],
        ["list", "list"],
      ]}
      value={shape}
      choose={choose}
    />
  );
}
