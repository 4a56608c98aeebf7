// A row of figures, each with what it counts.
export function Figures({ rows }: { rows: [value: React.ReactNode, label: string][] }) {
  return (
    <div className="figures">
      {rows.map(([value, label]) => (
        <div key={label}>
          <div className="value num">{value}</div>
          <div className="label">{label}</div>
        </div>
      ))}
    </div>
  );
}

export function StageHead({ title, children }: { title: string; children?: React.ReactNode }) {
  return (
    <div className="head">
      <h2 className="serif">{title}</h2>
      <div className="small-text soft">{children}</div>
    </div>
  );
}
