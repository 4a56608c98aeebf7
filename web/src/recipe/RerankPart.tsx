// Reranking: which scorer, and what it is told.
import { useFamily } from "../api/catalogue";
import { useScorers } from "../stages/reranked/api";
import { kindOf, settingsOf } from "./kinds";
import { Part } from "./Part";
import { field } from "./paths";
import { Choice, SettingFields, type Editing } from "./SettingFields";

export function RerankPart(editing: Editing) {
  const scorers = useScorers();
  const family = useFamily("scorers");
  const { body, set, wrong } = editing;
  const name = String(field(body, "rerank.scorer") ?? "");
  const scorer = scorers.data?.find((row) => row.name === name);
  const settings = settingsOf(family, kindOf(family, scorer?.kind)).map((setting) =>
    setting.name === "blend"
      ? { ...setting, title: `Blend, ${scorer?.blend ?? 0} if empty` }
      : setting.name === "floor"
        ? { ...setting, title: `Floor, ${scorer?.calibrated ? "0 to 1" : "a score"}` }
        : setting,
  );
  const start = family.common.find((setting) => setting.name === "shortlist")?.default;
  function choose(scorer: string) {
    const old = body.rerank as { shortlist?: number } | null;
    const shortlist = old?.shortlist ?? start;
    set("rerank", scorer ? { scorer, shortlist, blend: null, floor: null } : null);
  }
  return (
    <Part kind="reranked" title="Reranking">
      <Choice
        id="rerank"
        label="Scorer"
        value={name}
        options={[
          ["", "none: the fused order is kept"],
          ...(scorers.data ?? []).map((row) => [row.name, row.title] as [string, string]),
        ]}
        choose={choose}
        wrong={wrong["rerank.scorer"]}
      />
      {body.rerank !== null && <SettingFields key={name} settings={settings} path="rerank" {...editing} />}
      {wrong.rerank && <div className="wrong">{wrong.rerank}</div>}
    </Part>
  );
}
