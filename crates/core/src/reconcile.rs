//! Reconciling: files with one another, and what they hold with what the table holds.

use std::collections::{HashMap, HashSet};

use crate::change::Change;
use crate::layout::{Column, EXTRAS_SOURCE, Format, Layout, Reading};
use crate::names::match_key;
use crate::types::Domain;

/// Joins the layouts of files that go to one table. Columns are matched by name; one that a
/// file lacks becomes nullable. Which columns there are and what they hold does not depend
/// on the order of the files; the order of the columns is that of the first file to have them.
///
/// ```
/// use hypodoke_core::layout::Layout;
/// use hypodoke_core::names::Namer;
/// use hypodoke_core::reconcile::join;
///
/// let layout = |names: &[&str]| {
///     let header: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
///     Layout::named(&header, &Namer::default(), &[])
/// };
/// let both = join(&layout(&["id", "berth"]), &layout(&["id", "tugs"]));
/// let names: Vec<&str> = both.columns.iter().map(|column| column.name.as_str()).collect();
/// assert_eq!(names, ["id", "berth", "tugs"]);
/// ```
pub fn join(a: &Layout, b: &Layout) -> Layout {
    let mut joined = a.clone();
    let partners = pair_up(&a.columns, &b.columns);
    for (column, partner) in joined.columns.iter_mut().zip(&partners) {
        match partner {
            Some(at) => {
                let other = &b.columns[*at];
                column.reading = read_alike(column, other);
                column.format = written_alike(column, other);
                column.domain = column.domain.join(other.domain);
                column.nullable |= other.nullable;
            }
            None => column.nullable = true,
        }
    }
    for column in left_over(&b.columns, &partners) {
        joined.columns.push(Column { nullable: true, ..column.1.clone() });
    }
    add_parts(&mut joined, b);
    joined
}

fn add_parts(layout: &mut Layout, other: &Layout) {
    for part in &other.parts {
        if !layout.parts.iter().any(|known| known.path == part.path) {
            layout.parts.push(part.clone());
        }
    }
}

/// For each of our columns, the one of theirs that is the same: by the very name first, then
/// by what is left of the name without case, blanks and punctuation, then by what the files call it. The
/// column of extras is nobody's.
pub(crate) fn pair_up(ours: &[Column], theirs: &[Column]) -> Vec<Option<usize>> {
    let by_name: HashMap<&str, usize> =
        theirs.iter().enumerate().map(|(at, c)| (c.name.as_str(), at)).collect();
    let named = |column: &Column| by_name.get(column.name.as_str()).filter(|_| !is_nobodys(column)).copied();
    let mut partners: Vec<Option<usize>> = ours.iter().map(named).collect();
    if partners.iter().all(Option::is_some) {
        return partners;
    }
    let mut by_key: HashMap<String, usize> = HashMap::new();
    for (at, column) in left_over(theirs, &partners) {
        by_key.entry(match_key(&column.name)).or_insert(at);
    }
    for (column, partner) in ours.iter().zip(&mut partners) {
        if partner.is_none() && !is_nobodys(column) {
            *partner = by_key.remove(&match_key(&column.name));
        }
    }
    let mut by_source: HashMap<&str, usize> =
        left_over(theirs, &partners).into_iter().map(|(at, column)| (column.source.as_str(), at)).collect();
    for (column, partner) in ours.iter().zip(&mut partners) {
        if partner.is_none() && !is_nobodys(column) {
            *partner = by_source.remove(column.source.as_str());
        }
    }
    partners
}

fn is_nobodys(column: &Column) -> bool {
    column.source == EXTRAS_SOURCE
}

/// Those of their columns that nobody was paired with.
fn left_over<'a>(theirs: &'a [Column], partners: &[Option<usize>]) -> Vec<(usize, &'a Column)> {
    let taken: HashSet<usize> = partners.iter().flatten().copied().collect();
    theirs.iter().enumerate().filter(|(at, _)| !taken.contains(at)).collect()
}

/// How a file fits its table.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Fit {
    /// The table's layout once the file is loaded.
    pub layout: Layout,
    /// For each of its columns, the column of the file that fills it.
    pub sources: Vec<Option<usize>>,
    /// What changes.
    pub changes: Vec<Change>,
}

impl Fit {
    /// The changes that alter the table: all but missing columns.
    pub fn alters(&self) -> bool {
        self.changes.iter().any(|change| !matches!(change, Change::Missing { .. }))
    }
}

/// Reconciles a file with the layout of its table.
///
/// ```
/// use hypodoke_core::layout::Layout;
/// use hypodoke_core::names::Namer;
/// use hypodoke_core::reconcile::reconcile;
///
/// let layout = |names: &[&str]| {
///     let header: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
///     Layout::named(&header, &Namer::default(), &[])
/// };
/// let fit = reconcile(&layout(&["id", "berth"]), &layout(&["berth", "id", "tugs"]));
/// // The table's columns keep their places, and the new one comes last.
/// assert_eq!(fit.sources, [Some(1), Some(0), Some(2)]);
/// assert!(fit.alters());
/// ```
pub fn reconcile(table: &Layout, file: &Layout) -> Fit {
    let mut fit = Fit { layout: table.clone(), sources: Vec::new(), changes: Vec::new() };
    fit.sources = pair_up(&table.columns, &file.columns);
    for (column, source) in fit.layout.columns.iter_mut().zip(&fit.sources) {
        let Some(at) = source else {
            fit.changes.push(Change::Missing { column: column.name.clone() });
            column.nullable = true;
            continue;
        };
        let from = column.ty();
        take_in(column, &file.columns[*at]);
        if column.ty() != from {
            fit.changes.push(Change::Widened { column: column.name.clone(), from, to: column.ty() });
        }
    }
    let fresh: Vec<(usize, &Column)> = left_over(&file.columns, &fit.sources);
    for (at, column) in fresh {
        fit.changes.push(Change::Added { column: column.name.clone(), to: column.ty() });
        fit.layout.columns.push(Column { nullable: true, ..column.clone() });
        fit.sources.push(Some(at));
    }
    add_parts(&mut fit.layout, file);
    fit
}

impl Column {
    /// What the column's table may hold by now.
    fn held(&self) -> Domain {
        self.pinned.map_or(self.domain, Domain::of)
    }
}

/// What two files show of how a column is read: what one of them shows, the other need not.
fn read_alike(a: &Column, b: &Column) -> Reading {
    match (a.domain, b.domain) {
        (Domain::Unknown, _) => b.reading,
        (_, Domain::Unknown) => a.reading,
        _ => a.reading.min(b.reading),
    }
}

/// The format of a column of two files: that of the file with values. If neither has any, the null words of both
/// are kept.
fn written_alike(a: &Column, b: &Column) -> Format {
    match (a.domain, b.domain) {
        (Domain::Unknown, Domain::Unknown) => Format { nulls: a.format.nulls.or(b.format.nulls), ..a.format },
        (Domain::Unknown, _) => b.format,
        _ => a.format,
    }
}

fn take_in(column: &mut Column, other: &Column) {
    column.nullable |= other.nullable;
    if let Some(wanted) = other.pinned
        && column.held().fits(Domain::of(wanted))
    {
        // A type that the user gives is taken where it holds what the table holds already.
        column.pinned = Some(wanted);
    }
    if other.domain != Domain::Unknown {
        column.reading = match other.reading {
            Reading::Kept if column.domain != Domain::Unknown => column.reading,
            now => now,
        };
        column.domain = column.domain.join(other.domain);
        column.format = other.format;
    } else {
        column.format = written_alike(column, other);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::types::{Digits, Type, Unit};

    fn domain() -> impl Strategy<Value = Domain> {
        let unit = prop_oneof![Just(Unit::Bare), Just(Unit::Percent), Just(Unit::Currency('€'))];
        let digits = (0u16..25, 0u16..20, any::<[bool; 8]>(), unit).prop_map(
            |(
                int,
                scale,
                [beyond_i64, float, infinite, binary, exact, not_days, not_moments, several],
                unit,
            )| Digits {
                int,
                scale,
                beyond_i64,
                float,
                infinite,
                binary,
                exact,
                not_days,
                not_moments: not_moments && not_days,
                several,
                unit,
            },
        );
        prop_oneof![
            Just(Domain::Unknown),
            Just(Domain::Boolean),
            Just(Domain::Date),
            Just(Domain::Time),
            Just(Domain::Timestamp),
            Just(Domain::TimestampTz),
            Just(Domain::Uuid),
            Just(Domain::Json),
            Just(Domain::Text),
            digits.prop_map(|d| Domain::Unknown.join(Domain::Number(d)).join(Domain::Number(d))),
        ]
    }

    fn column(name: u8, domain: Domain, nullable: bool) -> Column {
        let reading =
            if matches!(domain, Domain::Date) && nullable { Reading::Guessed } else { Reading::Shown };
        let name = format!("c{name}");
        Column {
            source: name.clone(),
            name,
            domain,
            format: Format::default(),
            reading,
            nullable,
            pinned: None,
        }
    }

    prop_compose! {
        fn layout()(columns in prop::collection::btree_map(0u8..6, (domain(), any::<bool>()), 0..6)) -> Layout {
            Layout { columns: columns.into_iter().map(|(n, (d, nullable))| column(n, d, nullable)).collect(), parts: Vec::new() }
        }
    }

    fn sorted(mut layout: Layout) -> Layout {
        layout.columns.sort_by(|a, b| a.name.cmp(&b.name));
        layout
    }

    #[test]
    fn names_that_differ_in_punctuation_only_are_told_apart_where_both_are_there() {
        let both = Layout {
            columns: vec![column(1, Domain::Date, false), column(1, Domain::Text, false)],
            parts: Vec::new(),
        };
        let mut both = both;
        both.columns[1].name = "c_1".to_owned();
        assert_eq!(reconcile(&both, &both).sources, [Some(0), Some(1)]);
        let one = Layout { columns: vec![both.columns[1].clone()], parts: Vec::new() };
        assert_eq!(reconcile(&both, &one).sources, [None, Some(0)]);
    }

    #[test]
    fn a_type_given_later_never_narrows() {
        let money = Type::Decimal { precision: 5, scale: 2 };
        let given = |ty| Layout {
            columns: vec![Column { pinned: Some(ty), ..column(1, Domain::Unknown, false) }],
            parts: Vec::new(),
        };
        let ty_after = |before: Domain, ty| {
            reconcile(&Layout { columns: vec![column(1, before, false)], parts: Vec::new() }, &given(ty))
                .layout
                .columns[0]
                .ty()
        };
        assert_eq!(ty_after(Domain::Text, money), Type::Text);
        assert_eq!(ty_after(Domain::Number(Digits { int: 3, ..Digits::default() }), money), money);
        assert_eq!(ty_after(Domain::Number(Digits { int: 4, ..Digits::default() }), money), Type::Integer);
        let wider = reconcile(&given(money), &given(Type::Text)).layout.columns[0].ty();
        assert_eq!(wider, Type::Text);
    }

    proptest! {
        #[test]
        fn domains_form_a_semilattice(a in domain(), b in domain(), c in domain()) {
            prop_assert_eq!(a.join(b), b.join(a));
            prop_assert_eq!(a.join(b).join(c), a.join(b.join(c)));
            prop_assert_eq!(a.join(a), a);
            prop_assert_eq!(a.join(Domain::Text), Domain::Text);
            prop_assert!(a.fits(a.join(b)));
        }

        #[test]
        fn layouts_join_in_any_order(a in layout(), b in layout(), c in layout()) {
            prop_assert_eq!(sorted(join(&a, &b)), sorted(join(&b, &a)));
            prop_assert_eq!(sorted(join(&join(&a, &b), &c)), sorted(join(&a, &join(&b, &c))));
            prop_assert_eq!(join(&a, &a), a);
        }

        #[test]
        fn reconciling_again_changes_nothing(a in layout(), b in layout()) {
            let once = reconcile(&a, &b);
            let twice = reconcile(&once.layout, &b);
            prop_assert!(!twice.alters());
            prop_assert_eq!(twice.layout, once.layout);
        }

        #[test]
        fn reconciling_never_narrows(a in layout(), b in layout()) {
            let fit = reconcile(&a, &b);
            for (before, after) in a.columns.iter().zip(&fit.layout.columns) {
                prop_assert!(before.domain.fits(after.domain));
            }
        }
    }
}
