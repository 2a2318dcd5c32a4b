//! Tables named after files.

use std::path::Path;

use hypodoke_core::names::{Namer, is_reserved_table};
use hypodoke_core::partition::whole_of;

/// The table a file goes to: its name without endings, and without dates and long numbers, so
/// that the files of several days go to one table. Files that are parts of a whole by the names of their
/// folders, `cranes/day=2026-03-04/part-0.csv`, are named after the whole.
pub fn table_name(file: &Path) -> String {
    let path = file.to_string_lossy();
    let name = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let name = whole_of(&path).map_or(name, str::to_owned);
    let stem = name.split('.').find(|part| !part.is_empty()).unwrap_or("data");
    let words: Vec<&str> = stem.split(['_', '-', ' ']).filter(|word| !word.is_empty()).collect();
    let figures = |word: &&str| word.chars().all(|c| c.is_ascii_digit());
    let undated: Vec<&str> = words.iter().copied().filter(|word| !figures(word)).collect();
    let base = if undated.is_empty() { stem.to_owned() } else { undated.join("_") };
    let trimmed = base.trim_end_matches(|c: char| c.is_ascii_digit());
    let base = if base.len() - trimmed.len() >= 6 && !trimmed.is_empty() { trimmed.to_owned() } else { base };
    match Namer::default().name(&base) {
        name if name.is_empty() => "data".to_owned(),
        // The ledger's own names are spoken for.
        name if is_reserved_table(&name) => format!("t_{name}"),
        name => name,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("movements.csv", "movements")]
    #[case("in/Berth Movements.csv.gz", "berth_movements")]
    #[case("movements_20260302.csv", "movements")]
    #[case("movements20260302.csv", "movements")]
    #[case("movements_2026-03-02_north.csv", "movements_north")]
    #[case("2026-03-02.csv", "_2026_03_02")]
    #[case("quay2.csv", "quay2")]
    #[case(".csv", "csv")]
    #[case("hd_files.csv", "t_hd_files")]
    #[case("in/cranes/country=NO/day=2026-03-04/part-0.parquet", "cranes")]
    #[case("country=NO/part-0.parquet", "part")]
    fn tables_are_named_after_files(#[case] file: &str, #[case] table: &str) {
        assert_eq!(table_name(Path::new(file)), table);
    }
}
