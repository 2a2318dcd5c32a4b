//! Exact sums of columns of numbers, for control totals.

use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::spelling::Number;
use hypodoke_core::types::Type;

/// How many digits of a column's numbers stand after the mark; `None` where it has no exact sum.
pub fn scale_of(ty: Type) -> Option<u16> {
    match ty {
        Type::Integer => Some(0),
        Type::Decimal { scale, .. } => Some(scale),
        _ => None,
    }
}

/// Adds the rows' values of some columns up, in units of their last digits. A sum beyond 128 bits
/// stays at its end, which no table reaches.
pub fn add(rows: &Rows, columns: &[usize], sums: &mut [i128]) {
    // Rows that the database refused were kept by the caster, and are not in the table.
    let refused: Vec<u32> = rows
        .rejects
        .iter()
        .map(|reject| reject.record)
        .filter(|record| rows.kept.binary_search(record).is_ok())
        .collect();
    for index in 0..rows.len() {
        if !refused.is_empty() && refused.contains(&rows.kept[index]) {
            continue;
        }
        let row = rows.row(index);
        for (column, sum) in columns.iter().zip(sums.iter_mut()) {
            let value = match row[*column] {
                Cell::Integer(value) => i128::from(value),
                Cell::Decimal { mantissa, .. } => i128::from(mantissa),
                Cell::Wide { index, .. } => rows.wide[index as usize],
                _ => 0,
            };
            *sum = sum.saturating_add(value);
        }
    }
}

/// A sum as a number.
pub fn number(sum: i128, ty: Type) -> Option<Number> {
    scale_of(ty).map(|scale| Number { mantissa: sum, scale })
}
