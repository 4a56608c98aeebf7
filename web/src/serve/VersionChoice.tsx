// A recipe version to choose, by name and number.
import { useRecipes } from "../recipe/api";

export function VersionChoice({
  label,
  value,
  choose,
  without,
}: {
  label: string;
  value: number | null;
  choose: (recipe: number | null) => void;
  /** Versions that cannot be chosen. */
  without?: number[];
}) {
  const recipes = (useRecipes().data ?? []).filter(({ id }) => !without?.includes(id));
  return (
    <label>
      {label}{" "}
      <select
        className="form-select form-select-sm"
        value={value ?? ""}
        onChange={(event) => choose(event.target.value ? Number(event.target.value) : null)}
      >
        <option value="">choose a version</option>
        {recipes.map((one) => (
          <option key={one.id} value={one.id}>
            {one.name} v{one.version}
            {one.in_force ? ", in force" : ""}
          </option>
        ))}
      </select>
    </label>
  );
}
