//! Decisions about the columns that a feed asks for by name, and about tables that somebody else made.

use hypodoke_core::layout::{Column, Layout};
use hypodoke_core::names::is_reserved_table;
use hypodoke_core::types::Type;
use hypodoke_stores::{Mode, Takes};

use super::FailReason;

fn names(columns: &Layout) -> Vec<String> {
    columns.columns.iter().map(|column| column.name.clone()).collect()
}

/// The column of a key.
///
/// # Errors
///
/// The table has no such column.
pub fn key_column<'c>(columns: &'c Layout, wanted: &str) -> Result<&'c Column, FailReason> {
    let missing = || FailReason::NoKeyColumn { column: wanted.to_owned(), there: names(columns) };
    columns.find_as_in_files(wanted).and_then(|at| columns.columns.get(at)).ok_or_else(missing)
}

/// The column by which files are ordered, or which says from when on their rows hold.
///
/// # Errors
///
/// The table has no such column.
pub fn order_column<'c>(columns: &'c Layout, wanted: &str) -> Result<&'c Column, FailReason> {
    let missing = || FailReason::NoColumnFor { column: wanted.to_owned(), there: names(columns) };
    columns.find_as_in_files(wanted).and_then(|at| columns.columns.get(at)).ok_or_else(missing)
}

/// The column that says from when on rows hold.
///
/// # Errors
///
/// The table has no such column, or it holds no dates or timestamps.
pub fn moment_column<'c>(columns: &'c Layout, wanted: &str) -> Result<&'c Column, FailReason> {
    let column = order_column(columns, wanted)?;
    match column.ty() {
        Type::Date | Type::Timestamp | Type::TimestampTz => Ok(column),
        ty => Err(FailReason::NoMoment { column: column.name.clone(), ty }),
    }
}

/// Decides about rows that a mode tells apart by a key: `path` is where they stand in the file, and
/// `go_with_others` says that they are parts of records which have one.
///
/// # Errors
///
/// They have no key.
pub fn on_key(mode: Mode, path: &str, key: &[String], go_with_others: bool) -> Result<(), FailReason> {
    match key.is_empty() && !go_with_others {
        true => Err(FailReason::KeyOfList { mode, path: path.to_owned() }),
        false => Ok(()),
    }
}

/// Decides about sheets and lists that have a key of their own: each `wanted` has to be among those `there`.
///
/// # Errors
///
/// One is missing.
pub fn on_keyed_parts<'p>(
    mut wanted: impl Iterator<Item = &'p String>,
    there: &[&str],
) -> Result<(), FailReason> {
    let owned = || there.iter().map(|path| (*path).to_owned()).collect();
    match wanted.find(|path| !there.contains(&path.as_str())) {
        Some(path) => Err(FailReason::NoPart { path: path.clone(), there: owned() }),
        None => Ok(()),
    }
}

/// Decides about columns that are matched by their place: the file has so many now, and had so many before.
///
/// # Errors
///
/// The numbers differ.
pub fn on_places(now: usize, before: usize) -> Result<(), FailReason> {
    if now == before { Ok(()) } else { Err(FailReason::OtherWidth { now, before }) }
}

/// Decides about the name of a table.
///
/// # Errors
///
/// It is one of the ledger's.
pub fn on_table_name(table: &str) -> Result<(), FailReason> {
    match is_reserved_table(table) {
        true => Err(FailReason::ReservedTable { table: table.to_owned() }),
        false => Ok(()),
    }
}

/// Decides about what is found where a table is expected, by how it takes rows.
///
/// # Errors
///
/// It is a view that takes no rows, or none in this mode.
pub fn on_view(table: &str, takes: Takes, mode: Mode) -> Result<(), FailReason> {
    match takes {
        Takes::Rows => Ok(()),
        Takes::Statements if mode.has_key() => Ok(()),
        takes => Err(FailReason::TakesNoRows { table: table.to_owned(), takes }),
    }
}

/// How the columns of a file differ from those of a table that somebody else made.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OtherColumns {
    /// Columns of the file that the table lacks.
    pub unknown: Vec<String>,
    /// Columns that the table requires and the file lacks.
    pub required: Vec<String>,
    /// Those of the unknown that come from the file's name.
    pub of_name: Vec<String>,
}

/// Decides about a file for a table that somebody else made.
///
/// # Errors
///
/// The columns differ.
pub fn on_columns_of(table: &str, others: OtherColumns) -> Result<(), FailReason> {
    let OtherColumns { unknown, required, of_name } = others;
    match unknown.is_empty() && required.is_empty() {
        true => Ok(()),
        false => Err(FailReason::OtherColumns { table: table.to_owned(), unknown, required, of_name }),
    }
}

#[cfg(test)]
mod tests {
    use hypodoke_core::layout::{Format, Reading};
    use hypodoke_core::types::Domain;
    use rstest::rstest;

    use super::*;

    fn columns(all: &[(&str, &str, Type)]) -> Layout {
        let column = |(name, source, ty): &(&str, &str, Type)| Column {
            name: (*name).to_owned(),
            source: (*source).to_owned(),
            domain: Domain::of(*ty),
            format: Format::default(),
            reading: Reading::Shown,
            nullable: false,
            pinned: None,
        };
        Layout { columns: all.iter().map(column).collect(), ..Layout::default() }
    }

    fn berths() -> Layout {
        columns(&[
            ("berth", "Berth no.", Type::Text),
            ("since", "Since", Type::Date),
            ("t", "Tons", Type::Integer),
        ])
    }

    #[rstest]
    #[case::by_name("berth", Ok("berth"))]
    #[case::as_files_have_it("Berth no.", Ok("berth"))]
    #[case::whatever_its_case("SINCE", Ok("since"))]
    #[case::missing("draught", Err("failed.no_key_column"))]
    fn the_column_of_a_key_is_found(#[case] wanted: &str, #[case] expected: Result<&str, &str>) {
        let (layout, code) = (berths(), |reason: FailReason| reason.reasons()[0].code.clone());
        let found = key_column(&layout, wanted).map(|column| column.name.as_str()).map_err(code);
        assert_eq!(found, expected.map_err(str::to_owned));
    }

    #[rstest]
    #[case::a_date("since", None)]
    #[case::a_number("t", Some("failed.no_moment"))]
    #[case::missing("draught", Some("failed.no_order_column"))]
    fn rows_hold_from_a_date_or_a_timestamp_on(#[case] wanted: &str, #[case] expected: Option<&str>) {
        let reason = moment_column(&berths(), wanted).err().map(|reason| reason.reasons()[0].code.clone());
        assert_eq!(reason.as_deref(), expected);
    }

    #[rstest]
    #[case::with_a_key(&["id"], false, true)]
    #[case::parts_of_records(&[], true, true)]
    #[case::rows_without_one(&[], false, false)]
    fn rows_need_a_key(#[case] key: &[&str], #[case] go_with_others: bool, #[case] fits: bool) {
        let key: Vec<String> = key.iter().map(|name| (*name).to_owned()).collect();
        assert_eq!(on_key(Mode::Upsert, "berths", &key, go_with_others).is_ok(), fits);
    }

    #[rstest]
    #[case(&["dues"], &["dues", "fees"], None)]
    #[case(&["dues", "fines"], &["dues", "fees"], Some("fines"))]
    #[case(&["fines"], &[], Some("fines"))]
    fn parts_with_keys_have_to_be_there(
        #[case] wanted: &[&str],
        #[case] there: &[&str],
        #[case] missing: Option<&str>,
    ) {
        let wanted: Vec<String> = wanted.iter().map(|path| (*path).to_owned()).collect();
        let found = match on_keyed_parts(wanted.iter(), there) {
            Err(FailReason::NoPart { path, there: named }) => {
                assert_eq!(named, there);
                Some(path)
            }
            other => other.map(|()| None).expect("no other reason"),
        };
        assert_eq!(found.as_deref(), missing);
    }

    #[rstest]
    #[case(Takes::Rows, Mode::Append, true)]
    #[case(Takes::Statements, Mode::Append, false)]
    #[case(Takes::Statements, Mode::Upsert, true)]
    #[case(Takes::Nothing, Mode::Upsert, false)]
    fn a_view_takes_rows_by_its_kind(#[case] takes: Takes, #[case] mode: Mode, #[case] fits: bool) {
        assert_eq!(on_view("v", takes, mode).is_ok(), fits);
    }

    #[rstest]
    #[case("berths", true)]
    #[case("hd_files", false)]
    #[case("HD_files", false)]
    fn the_ledgers_tables_are_not_filled(#[case] table: &str, #[case] fits: bool) {
        assert_eq!(on_table_name(table).is_ok(), fits);
    }

    #[test]
    fn columns_by_place_are_as_many_as_before_and_others_columns_all_there() {
        assert_eq!(on_places(3, 3), Ok(()));
        assert_eq!(on_places(3, 2), Err(FailReason::OtherWidth { now: 3, before: 2 }));
        assert_eq!(on_columns_of("t", OtherColumns::default()), Ok(()));
        let lacking = OtherColumns { required: vec!["id".into()], ..OtherColumns::default() };
        assert_eq!(on_columns_of("t", lacking).unwrap_err().reasons()[0].code, "failed.other_columns");
    }
}
