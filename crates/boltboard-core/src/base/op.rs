//! Comparisons, of options' values and of versions alike.

/// A comparison.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
pub enum Op {
    /// `=`
    Equal,
    /// `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    More,
    /// `>=`
    AtLeast,
}

impl Op {
    /// All comparisons; those with longer signs first, so that `<=` is not read as `<`.
    pub const ALL: [Op; 6] = [Op::NotEqual, Op::AtMost, Op::AtLeast, Op::Less, Op::More, Op::Equal];

    /// Returns the sign as written.
    pub fn sign(self) -> &'static str {
        match self {
            Op::Equal => "=",
            Op::NotEqual => "!=",
            Op::Less => "<",
            Op::AtMost => "<=",
            Op::More => ">",
            Op::AtLeast => ">=",
        }
    }

    /// Returns the comparison that holds just when this one does not.
    pub fn opposite(self) -> Op {
        match self {
            Op::Equal => Op::NotEqual,
            Op::NotEqual => Op::Equal,
            Op::Less => Op::AtLeast,
            Op::AtMost => Op::More,
            Op::More => Op::AtMost,
            Op::AtLeast => Op::Less,
        }
    }

    /// Tells whether the comparison holds for an order of left to right.
    pub fn accepts(self, order: std::cmp::Ordering) -> bool {
        match self {
            Op::Equal => order.is_eq(),
            Op::NotEqual => order.is_ne(),
            Op::Less => order.is_lt(),
            Op::AtMost => order.is_le(),
            Op::More => order.is_gt(),
            Op::AtLeast => order.is_ge(),
        }
    }
}
