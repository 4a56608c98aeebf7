// A setting that was found by measuring, taken into the recipe with one click.
import { Button } from "react-bootstrap";
import { useLine } from "../../api/queries";
import { useSaveRecipe } from "../../recipe/api";

type Body = Record<string, unknown>;

export function TakeUp({
  inForce,
  changed,
  note,
  children,
}: {
  inForce: boolean;
  changed: (body: Body) => Body;
  note: string;
  children: string;
}) {
  const line = useLine();
  const save = useSaveRecipe(() => undefined);
  const recipe = line.data?.recipe;
  return (
    <>
      {inForce ? (
        <div className="small-text soft mt-2">in force</div>
      ) : (
        <Button
          size="sm"
          className="mt-2"
          disabled={!recipe || save.isPending}
          onClick={() => recipe && save.mutate({ body: changed(recipe.body as Body), note })}
        >
          {children}
        </Button>
      )}
      {save.error && <div className="lost small-text mt-1">{save.error.message}</div>}
    </>
  );
}
