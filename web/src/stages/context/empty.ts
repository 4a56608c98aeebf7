// What a threshold on the probability of an answer does: pure functions.

export interface Answered {
  answerable: boolean;
  /** Probability that anything answers. */
  answered: number;
  /** Whether an answer comes through where nothing is left empty. */
  delivered: boolean;
}

export interface LeftEmpty {
  unanswerable: number;
  empty: number;
  delivered: number;
  lost: number;
}

/** Questions that are left empty below a probability: those that nothing answers, and answers that go lost. */
export function leftEmpty(questions: Answered[], least: number): LeftEmpty {
  const found = { unanswerable: 0, empty: 0, delivered: 0, lost: 0 };
  for (const { answerable, answered, delivered } of questions) {
    const under = answered < least;
    if (!answerable) {
      found.unanswerable += 1;
      if (under) found.empty += 1;
    } else if (delivered) {
      found.delivered += 1;
      if (under) found.lost += 1;
    }
  }
  return found;
}
