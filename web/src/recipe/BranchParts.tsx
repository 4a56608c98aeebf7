// The branches of a recipe: each with the settings of its kind; any number of any kind, under any ids.
import { Button, Dropdown, Form } from "react-bootstrap";
import { useCatalogue, useFamily } from "../api/catalogue";
import { field, withoutBranch, withBranch, withBranchId, type RecipeBody } from "./paths";
import { Part } from "./Part";
import { KindFields, type Editing } from "./SettingFields";
import { filled, kindOf } from "./kinds";

interface Branch {
  id: string;
  kind: string;
}
const MOST = 8;

export function BranchParts({ change, ...editing }: Editing & { change: (body: RecipeBody) => void }) {
  const catalogue = useCatalogue();
  const family = useFamily("branches");
  const { body } = editing;
  const branches = (body.branches as Branch[]) ?? [];
  function add(kind: string) {
    const taken = branches.map(({ id }) => id);
    const base = String(kindOf(family, kind)?.facts.family ?? kind);
    const id = [base, ...Array.from({ length: MOST }, (_, n) => `${base}-${n + 2}`)].find(
      (name) => !taken.includes(name),
    )!;
    change(withBranch(body, filled(catalogue, "branches", { id, kind })));
  }
  return (
    <>
      {branches.map((branch, place) => (
        <Part
          key={place}
          kind={String(kindOf(family, branch.kind)?.facts.family ?? "sparse")}
          title={`Branch “${branch.id}”`}
          aside={
            branches.length > 1 && (
              <Button
                size="sm"
                variant="link"
                className="p-0"
                aria-label={`take out branch ${branch.id}`}
                onClick={() => change(withoutBranch(body, place))}
              >
                take out
              </Button>
            )
          }
        >
          <div>
            <label htmlFor={`branches[${place}].id`}>Id</label>
            <Form.Control
              id={`branches[${place}].id`}
              size="sm"
              className="mono"
              spellCheck={false}
              value={String(field(body, `branches[${place}].id`))}
              isInvalid={Boolean(editing.wrong[`branches[${place}].id`])}
              onChange={(event) => change(withBranchId(body, place, event.target.value))}
            />
            {editing.wrong[`branches[${place}].id`] && (
              <div className="wrong">{editing.wrong[`branches[${place}].id`]}</div>
            )}
          </div>
          <KindFields
            key={branch.kind}
            family="branches"
            path={`branches[${place}]`}
            label="Kind"
            leave={["id"]}
            {...editing}
          />
        </Part>
      ))}
      {branches.length < MOST && (
        <Dropdown className="mb-3">
          <Dropdown.Toggle size="sm" variant="outline-primary" id="add-branch">
            Add a branch
          </Dropdown.Toggle>
          <Dropdown.Menu>
            {family.kinds.map((kind) => (
              <Dropdown.Item key={kind.name} as="button" onClick={() => add(kind.name)}>
                {kind.title}
              </Dropdown.Item>
            ))}
          </Dropdown.Menu>
        </Dropdown>
      )}
    </>
  );
}
