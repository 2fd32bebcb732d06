//! Where things stand in a drawing of letters.

/// Letters along one side of a drawing, and the values at its ends.
pub struct Scale {
    pub from: f64,
    pub to: f64,
    n: usize,
}

impl Scale {
    /// From the smallest to the largest value.
    pub fn of(values: impl Iterator<Item = f64> + Clone, n: usize) -> Scale {
        let from = values.clone().fold(f64::INFINITY, f64::min);
        Scale { from, to: values.fold(f64::NEG_INFINITY, f64::max), n }
    }

    /// The place of a value, from 0; in the middle where all are the same.
    pub fn place(&self, value: f64) -> usize {
        let share = if self.to > self.from { (value - self.from) / (self.to - self.from) } else { 0.5 };
        ((share * (self.n - 1) as f64).round() as usize).min(self.n - 1)
    }
}
