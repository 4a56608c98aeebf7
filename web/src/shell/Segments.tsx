// A choice of a few, side by side.
export function Segments<T extends string | number>({
  options,
  value,
  choose,
}: {
  options: [value: T, label: string][];
  value: T;
  choose: (value: T) => void;
}) {
  return (
    <div className="segments small-text">
      {options.map(([option, label]) => (
        <button key={option} type="button" aria-pressed={option === value} onClick={() => choose(option)}>
          {label}
        </button>
      ))}
    </div>
  );
}
