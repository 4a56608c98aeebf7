// The recipe in force, and the way back to any saved version.
import { Dropdown } from "react-bootstrap";
import { usePutInForce, useRecipes } from "./api";
import type { Recipe } from "../api/client";

export function RecipePicker({ recipe }: { recipe: Recipe }) {
  const recipes = useRecipes();
  const put = usePutInForce();
  return (
    <Dropdown align="end">
      <Dropdown.Toggle
        size="sm"
        variant="light"
        style={{ border: "1px solid var(--edge)", background: "var(--card)" }}
        id="recipe-in-force"
      >
        <span className="soft">Recipe</span> <strong>{recipe.name}</strong> v{recipe.version}
      </Dropdown.Toggle>
      <Dropdown.Menu style={{ maxHeight: 420, overflow: "auto", minWidth: 300 }}>
        <Dropdown.Header>Put a saved recipe in force</Dropdown.Header>
        {(recipes.data ?? []).map((row) => (
          <Dropdown.Item
            key={row.id}
            as="button"
            active={row.id === recipe.id}
            onClick={() => put.mutate(row.id)}
          >
            {row.name} v{row.version} {row.note && <span className="small-text"> {row.note}</span>}
          </Dropdown.Item>
        ))}
      </Dropdown.Menu>
    </Dropdown>
  );
}
