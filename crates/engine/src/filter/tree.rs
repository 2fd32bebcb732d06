//! What a filter says, as a tree that knows where each part stood.

use std::ops::Range;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

impl Comparison {
    pub(super) const ALL: [(&str, Comparison); 6] = [
        ("=", Comparison::Equal),
        ("<>", Comparison::NotEqual),
        ("<", Comparison::Less),
        ("<=", Comparison::LessOrEqual),
        (">", Comparison::Greater),
        (">=", Comparison::GreaterOrEqual),
    ];

    /// What holds when the sides are swapped.
    pub(super) fn turned(self) -> Comparison {
        match self {
            Comparison::Less => Comparison::Greater,
            Comparison::LessOrEqual => Comparison::GreaterOrEqual,
            Comparison::Greater => Comparison::Less,
            Comparison::GreaterOrEqual => Comparison::LessOrEqual,
            same => same,
        }
    }

    pub(super) fn holds(self, order: std::cmp::Ordering) -> bool {
        match self {
            Comparison::Equal => order.is_eq(),
            Comparison::NotEqual => order.is_ne(),
            Comparison::Less => order.is_lt(),
            Comparison::LessOrEqual => order.is_le(),
            Comparison::Greater => order.is_gt(),
            Comparison::GreaterOrEqual => order.is_ge(),
        }
    }
}

#[derive(Clone, Debug, PartialEq)]
pub enum Literal {
    Text(String),
    Integer(i64),
    Number(f64),
    Boolean(bool),
    /// Days since 1970-01-01.
    Date(i64),
    /// Microseconds since 1970-01-01T00:00:00Z.
    Timestamp(i64),
}

/// A part of the tree and where it stood. Equal when they say the same, wherever they stood.
#[derive(Clone, Debug)]
pub struct Node<T> {
    pub at: Range<usize>,
    pub is: T,
}

impl<T: PartialEq> PartialEq for Node<T> {
    fn eq(&self, other: &Node<T>) -> bool {
        self.is == other.is
    }
}

pub type Value = Node<Term>;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operator {
    Add,
    Subtract,
    Multiply,
    Divide,
    /// Whole numbers, towards zero.
    DivideWhole,
    /// With the sign of the dividend.
    Remainder,
    Power,
}

impl Operator {
    /// As in text, and how strongly it binds.
    pub(super) const ALL: [(&str, Operator, usize); 7] = [
        ("+", Operator::Add, 1),
        ("-", Operator::Subtract, 1),
        ("*", Operator::Multiply, 2),
        ("/", Operator::Divide, 2),
        ("div", Operator::DivideWhole, 2),
        ("%", Operator::Remainder, 2),
        ("^", Operator::Power, 3),
    ];

    pub(super) fn symbol(self) -> (&'static str, usize) {
        let (symbol, _, strength) = Operator::ALL.into_iter().find(|o| o.1 == self).expect("all are listed");
        (symbol, strength)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Function {
    /// The text without regard to case.
    Casei,
    /// The text without accents.
    Accenti,
    /// Characters of a text, items of an array.
    Length,
}

impl Function {
    pub(super) const ALL: [(&str, Function); 3] =
        [("CASEI", Function::Casei), ("ACCENTI", Function::Accenti), ("LENGTH", Function::Length)];

    pub(super) fn name(self) -> &'static str {
        Function::ALL.iter().find(|f| f.1 == self).expect("all are listed").0
    }
}

#[derive(Clone, Debug, PartialEq)]
pub enum Term {
    Property(String),
    /// `:name`: a value that a saved search is given. A filter that holds one does not compile.
    Parameter(String),
    Literal(Literal),
    Arithmetic(Operator, Box<Value>, Box<Value>),
    Call(Function, Box<Value>),
    List(Vec<Value>),
    Interval(Box<Value>, Box<Value>),
    /// `'..'`: an end of an interval that is not bounded.
    Open,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ArrayTest {
    /// Every value of the second is in the first.
    Contains,
    /// Every value of the first is in the second.
    ContainedBy,
    /// Both.
    Equals,
    /// At least one value is shared.
    Overlaps,
}

impl ArrayTest {
    pub(super) const ALL: [(&str, ArrayTest); 4] = [
        ("A_CONTAINS", ArrayTest::Contains),
        ("A_CONTAINEDBY", ArrayTest::ContainedBy),
        ("A_EQUALS", ArrayTest::Equals),
        ("A_OVERLAPS", ArrayTest::Overlaps),
    ];

    /// What holds when the sides are swapped.
    pub(super) fn turned(self) -> ArrayTest {
        match self {
            ArrayTest::Contains => ArrayTest::ContainedBy,
            ArrayTest::ContainedBy => ArrayTest::Contains,
            same => same,
        }
    }
}

/// How two stretches of time lie to each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Relation {
    After,
    Before,
    Contains,
    Disjoint,
    During,
    Equals,
    FinishedBy,
    Finishes,
    Intersects,
    Meets,
    MetBy,
    OverlappedBy,
    Overlaps,
    StartedBy,
    Starts,
}

impl Relation {
    pub(super) const ALL: [(&str, Relation); 15] = [
        ("T_AFTER", Relation::After),
        ("T_BEFORE", Relation::Before),
        ("T_CONTAINS", Relation::Contains),
        ("T_DISJOINT", Relation::Disjoint),
        ("T_DURING", Relation::During),
        ("T_EQUALS", Relation::Equals),
        ("T_FINISHEDBY", Relation::FinishedBy),
        ("T_FINISHES", Relation::Finishes),
        ("T_INTERSECTS", Relation::Intersects),
        ("T_MEETS", Relation::Meets),
        ("T_METBY", Relation::MetBy),
        ("T_OVERLAPPEDBY", Relation::OverlappedBy),
        ("T_OVERLAPS", Relation::Overlaps),
        ("T_STARTEDBY", Relation::StartedBy),
        ("T_STARTS", Relation::Starts),
    ];
}

#[derive(Clone, Debug, PartialEq)]
pub enum Expr {
    Constant(bool),
    And(Vec<Expr>),
    Or(Vec<Expr>),
    Not(Box<Expr>),
    Compare(Value, Comparison, Value),
    Between(Value, Value, Value),
    In(Value, Vec<Value>),
    Like(Value, Value),
    IsNull(Value),
    Array(ArrayTest, Value, Value),
    Time(Relation, Value, Value),
    /// A boolean field standing alone.
    Flag(Value),
}

/// The name of a member of one of the tables above.
pub(super) fn name_of<T: Copy + PartialEq>(table: &[(&'static str, T)], of: T) -> &'static str {
    table.iter().find(|(_, t)| *t == of).expect("all are listed").0
}

/// The member of one of the tables above that is called so, in any case.
pub(super) fn called<T: Copy>(table: &[(&'static str, T)], name: &str) -> Option<T> {
    table.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, t)| *t)
}

/// Words that name no field unless they stand in double quotes.
pub(super) fn is_keyword(word: &str) -> bool {
    const KEYWORDS: [&str; 11] =
        ["AND", "OR", "NOT", "BETWEEN", "IN", "LIKE", "IS", "NULL", "TRUE", "FALSE", "DIV"];
    KEYWORDS.iter().any(|k| word.eq_ignore_ascii_case(k))
}

/// Whether a text can name a parameter.
pub(super) fn is_parameter(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
}

/// Counts what the limits of a filter are about.
#[derive(Default)]
pub(super) struct Counts {
    pub depth: usize,
    pub conditions: usize,
}

impl Counts {
    pub fn deeper(&mut self, at: &Range<usize>) -> Result<(), super::FilterError> {
        self.depth += 1;
        if self.depth > super::MAX_DEPTH {
            let max = super::MAX_DEPTH;
            return super::error(at, format!("nested more than {max} deep; flatten the filter"));
        }
        Ok(())
    }

    pub fn condition(&mut self, at: &Range<usize>) -> Result<(), super::FilterError> {
        self.conditions += 1;
        if self.conditions > super::MAX_CONDITIONS {
            let max = super::MAX_CONDITIONS;
            return super::error(
                at,
                format!("more than {max} conditions; a list takes more: field IN (value, ...)"),
            );
        }
        Ok(())
    }
}

/// Why geometry is refused, wherever it appears.
pub(super) fn spatial(name: &str) -> Option<String> {
    const SHAPES: [&str; 8] = [
        "POINT",
        "LINESTRING",
        "POLYGON",
        "MULTIPOINT",
        "MULTILINESTRING",
        "MULTIPOLYGON",
        "GEOMETRYCOLLECTION",
        "BBOX",
    ];
    let upper = name.to_ascii_uppercase();
    (upper.starts_with("S_") || SHAPES.contains(&upper.as_str())).then(|| {
        format!(
            "{upper} is not supported: no field holds a geometry; compare coordinates as numbers, such as \
             place.lat BETWEEN 61 AND 62"
        )
    })
}

/// Why a function is refused that is not known.
pub(super) fn unknown_function(name: &str) -> String {
    let known = Function::ALL.map(|f| f.0).into_iter().chain(ArrayTest::ALL.map(|f| f.0));
    let known: Vec<&str> =
        known.chain(Relation::ALL.map(|f| f.0)).chain(["DATE", "TIMESTAMP", "INTERVAL"]).collect();
    let hint = crate::names::did_you_mean(name, known.iter().copied());
    format!("function {name} is not known{hint} (functions: {})", known.join(", "))
}
