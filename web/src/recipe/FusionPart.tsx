// Fusion: how the rankings of the branches become one.
import { useFamily, type Setting } from "../api/catalogue";
import { Part } from "./Part";
import { KindFields, NumberField, type Editing } from "./SettingFields";

export function FusionPart(editing: Editing) {
  const weights = useFamily("fusion").common.find((setting) => setting.name === "weights");
  const ids = (editing.body.branches as { id: string }[]).map(({ id }) => id);
  const of = (id: string): Setting =>
    ({ ...weights, name: id, title: `Weight of ${id}`, low: 0, high: 1000, default: 1 }) as Setting;
  return (
    <Part kind="fused" title="Fusion">
      <KindFields family="fusion" path="fusion" label="Method" leave={["weights"]} {...editing} />
      {weights &&
        ids.map((id) => <NumberField key={id} setting={of(id)} path={`fusion.weights.${id}`} {...editing} />)}
    </Part>
  );
}
