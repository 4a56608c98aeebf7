// Reranking: which scorers with what weights, how they read, and what they are told.
import { Button, Form } from "react-bootstrap";
import { useFamily } from "../api/catalogue";
import { useScorers } from "../stages/reranked/api";
import { kindOf, settingsOf } from "./kinds";
import { Part } from "./Part";
import { field } from "./paths";
import { BLEND_OF_SEVERAL, usesOf, withUses, type Use } from "./scorers";
import { Choice, SettingFields, type Editing } from "./SettingFields";

export function RerankPart(editing: Editing) {
  const scorers = useScorers();
  const family = useFamily("scorers");
  const { body, set, wrong } = editing;
  const uses = usesOf(body.rerank);
  const several = uses.length > 1;
  const offered = scorers.data ?? [];
  const first = offered.find((row) => row.name === uses[0]?.scorer);
  const calibrated = uses.some((use) => offered.find((row) => row.name === use.scorer)?.calibrated);
  const all = settingsOf(family, kindOf(family, first?.kind));
  const own = several ? all.filter((setting) => family.common.some((one) => one.name === setting.name)) : all;
  const settings = own
    .filter((setting) => setting.name !== "windows" || field(body, "rerank.window") != null)
    .map((setting) =>
      setting.name === "blend"
        ? { ...setting, title: `Blend, ${several ? BLEND_OF_SEVERAL : (first?.blend ?? 0)} if empty` }
        : setting.name === "floor"
          ? { ...setting, title: `Floor, ${calibrated ? "0 to 1" : "a score"}` }
          : setting,
    );
  const defaults = Object.fromEntries(family.common.map((setting) => [setting.name, setting.default]));
  const put = (next: Use[]) => {
    // A joint scorer that comes in brings the window that it reads best; what was set by hand stays.
    const fresh = next.filter((use) => !uses.some((one) => one.scorer === use.scorer));
    const window = fresh.map((use) => offered.find((row) => row.name === use.scorer)?.window).find(Boolean);
    const before = { ...((body.rerank as object | null) ?? defaults) } as Record<string, unknown>;
    if (window && before.window == null) Object.assign(before, { window, windows: 1 });
    set("rerank", withUses(before, next));
  };
  const others = offered.filter((row) => !uses.some((use) => use.scorer === row.name));
  const names = (own: string): [string, string][] =>
    offered
      .filter((row) => row.name === own || others.includes(row))
      .map((row) => [row.name, row.title] as [string, string]);
  const at = (place: number) => (several ? `rerank.scorers[${place}].scorer` : "rerank.scorer");
  return (
    <Part kind="reranked" title="Reranking">
      {(uses.length ? uses : [{ scorer: "", weight: 1 }]).map((use, place) => (
        <div key={place} className="d-flex gap-2 align-items-end whole-row">
          <div className="flex-grow-1">
            <Choice
              id={place ? `rerank-${place}` : "rerank"}
              label={place ? "and" : "Scorer"}
              value={use.scorer}
              options={[["", place ? "no other" : "none: the fused order is kept"], ...names(use.scorer)]}
              choose={(scorer) =>
                put(
                  scorer
                    ? uses.length
                      ? uses.map((one, row) => (row === place ? { ...one, scorer } : one))
                      : [{ scorer, weight: 1 }]
                    : uses.filter((_, row) => row !== place),
                )
              }
              wrong={wrong[at(place)]}
            />
          </div>
          {several && (
            <Form.Control
              size="sm"
              type="number"
              className="num"
              style={{ width: "4.2rem" }}
              min={0}
              max={100}
              step={0.1}
              aria-label={`Weight of ${use.scorer}`}
              title="Weight: its share of the standardised scores"
              value={use.weight}
              onChange={(event) =>
                put(
                  uses.map((one, row) =>
                    row === place ? { ...one, weight: Number(event.target.value) } : one,
                  ),
                )
              }
            />
          )}
        </div>
      ))}
      {uses.length > 0 && others.length > 0 && (
        <Button
          size="sm"
          variant="link"
          className="p-0 mb-1 whole-row text-start"
          onClick={() => put([...uses, { scorer: others[0]!.name, weight: 1 }])}
        >
          Add a scorer
        </Button>
      )}
      {wrong["rerank.scorers"] && <div className="wrong">{wrong["rerank.scorers"]}</div>}
      {uses.length > 0 && (
        <SettingFields
          key={uses.map((use) => use.scorer).join(" ")}
          settings={settings}
          path="rerank"
          {...editing}
        />
      )}
      {wrong.rerank && <div className="wrong">{wrong.rerank}</div>}
    </Part>
  );
}
