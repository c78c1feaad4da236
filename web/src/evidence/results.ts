/** What `varlen match --json` and `varlen probe --json` print, as the screens read it. */

type Span = [number, number, number];

export interface ConditionFacts {
  name: string;
  unit: string;
  /** What a low and a high value look like. */
  low: string;
  high: string;
  training: Span;
  variants_before: Span;
  variants: Span;
  field: Span;
  covered_before: number;
  covered_after: number;
  differs_before: boolean;
  differs_after: boolean;
  values: { training: number[]; variants_before: number[]; variants: number[]; field: number[] };
}

export interface SuggestedStep {
  id: string;
  step: string;
  [parameter: string]: unknown;
}

export interface MatchResult {
  auc_before: number;
  auc_before_interval: [number, number];
  auc_after: number;
  auc_after_interval: [number, number];
  pictures: { training: number; variants: number; field: number };
  conditions: ConditionFacts[];
  suggested: { steps: SuggestedStep[] };
  evidence: { step: string; parameter: string; condition: string; says: string; covered_before: number; covered_after: number }[];
  unreached: string[];
  notes: string[];
}

export interface Compared {
  difference: number;
  interval: [number, number];
  verdict: "helps" | "hurts" | "no difference shown";
}

export interface ProbeRow extends Partial<Compared> {
  pipeline: string;
  mean: number;
  spread: number;
  n: number;
  values: number[];
  per_class: Record<string, number | null>;
  to_tell?: string;
}

export interface ProbeResult {
  /** The answer, a sentence for each pipeline; not in results of older versions, as little as differences of classes. */
  headline?: string[];
  class_difference?: Record<string, Record<string, Compared>>;
  task: string;
  metric: string;
  split: string;
  seeds: number;
  steps: number;
  seconds: number;
  results: ProbeRow[];
  robustness: Record<string, Record<string, number>>;
  robustness_difference: Record<string, Record<string, Compared>>;
  /** Classes or keypoints, and fixed conditions, in their order. */
  columns: string[];
  conditions: string[];
  proxy: string;
  notes: string[];
}
