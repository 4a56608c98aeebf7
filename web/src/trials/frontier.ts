// What a recipe costs against what it finds: which recipes nothing else beats in both.

export interface Point {
  name: string;
  cost: number;
  value: number;
  inForce: boolean;
}

/** Whether another one costs no more and finds no less, and is better in one of them. */
export const beaten = (point: Point, among: Point[]): boolean =>
  among.some(
    (other) =>
      other.cost <= point.cost &&
      other.value >= point.value &&
      (other.cost < point.cost || other.value > point.value),
  );

/** Those that nothing beats, the cheapest first. */
export const frontier = (points: Point[]): Point[] =>
  points.filter((point) => !beaten(point, points)).sort((a, b) => a.cost - b.cost);
