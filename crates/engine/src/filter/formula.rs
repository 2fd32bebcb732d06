//! Numbers that are computed from fields.

use super::tree::Operator;
use std::cmp::Ordering;

#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Number {
    Integer(i64),
    Real(f64),
}

impl Number {
    /// Exact, whatever the two are.
    pub fn order(self, other: Number) -> Ordering {
        match (self, other) {
            (Number::Integer(a), Number::Integer(b)) => a.cmp(&b),
            (Number::Real(a), Number::Real(b)) => a.partial_cmp(&b).unwrap_or(Ordering::Equal),
            (Number::Integer(a), Number::Real(b)) => whole_to_real(a, b),
            (Number::Real(a), Number::Integer(b)) => whole_to_real(b, a).reverse(),
        }
    }

    fn real(self) -> f64 {
        match self {
            Number::Integer(n) => n as f64,
            Number::Real(x) => x,
        }
    }

    /// `None` where there is no such number: a division by zero, a result beyond 64 bits.
    pub fn apply(operator: Operator, a: Number, b: Number) -> Option<Number> {
        use Number::{Integer, Real};
        let real = |x: f64| x.is_finite().then_some(Real(x));
        match (operator, a, b) {
            (Operator::Add, Integer(a), Integer(b)) => a.checked_add(b).map(Integer),
            (Operator::Subtract, Integer(a), Integer(b)) => a.checked_sub(b).map(Integer),
            (Operator::Multiply, Integer(a), Integer(b)) => a.checked_mul(b).map(Integer),
            (Operator::DivideWhole, Integer(a), Integer(b)) => a.checked_div(b).map(Integer),
            // The smallest integer by -1 leaves 0, though its quotient is beyond 64 bits.
            (Operator::Remainder, Integer(a), Integer(b)) => (b != 0).then(|| Integer(a.wrapping_rem(b))),
            (Operator::Add, ..) => real(a.real() + b.real()),
            (Operator::Subtract, ..) => real(a.real() - b.real()),
            (Operator::Multiply, ..) => real(a.real() * b.real()),
            (Operator::Divide, ..) => real(a.real() / b.real()),
            (Operator::DivideWhole, ..) => real((a.real() / b.real()).trunc()),
            (Operator::Remainder, ..) => real(a.real() % b.real()),
            (Operator::Power, ..) => real(a.real().powf(b.real())),
        }
    }
}

fn whole_to_real(n: i64, x: f64) -> Ordering {
    if x >= 9_223_372_036_854_775_808.0 {
        return Ordering::Less;
    }
    if x < -9_223_372_036_854_775_808.0 {
        return Ordering::Greater;
    }
    let whole = x.trunc();
    n.cmp(&(whole as i64)).then(0.0f64.partial_cmp(&(x - whole)).unwrap_or(Ordering::Equal))
}

/// A number for each row.
#[derive(Clone, Debug, PartialEq)]
pub enum Formula {
    Constant(Number),
    Field(usize),
    /// Characters of a text, items of an array.
    Length(usize),
    Apply(Operator, Box<Formula>, Box<Formula>),
}

impl Formula {
    /// What it gives for a row, with the numbers of fields as `of` tells them.
    pub fn at(&self, of: &impl Fn(&Formula) -> Option<Number>) -> Option<Number> {
        match self {
            Formula::Constant(number) => Some(*number),
            Formula::Field(_) | Formula::Length(_) => of(self),
            Formula::Apply(operator, a, b) => Number::apply(*operator, a.at(of)?, b.at(of)?),
        }
    }
}
