//! A file held against its table under a feed's policy.

use super::rename::same_kind;
use super::{
    Action, Change, Drift, HeldChange, MissingColumn, NewColumn, OtherKind, Policy, Rename, RenamedColumn,
    WiderType,
};
use crate::evidence::FormatHint;
use crate::layout::{Column, EXTRAS_COLUMN, EXTRAS_SOURCE, Format, Layout, Reading};
use crate::names::match_key;
use crate::reconcile::{Fit, reconcile};
use crate::types::{Domain, Type};

/// What a policy makes of a file.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Judged {
    /// How the file goes into the table: its layout afterwards, the file's column for each of its
    /// columns, and the changes that are made to it.
    pub fit: Fit,
    /// All that differs, with what is done about it.
    pub drift: Vec<Drift>,
    /// The changes for which the file is held; empty where it is not.
    pub held: Vec<HeldChange>,
    /// The file's columns whose values are kept in the column of extras.
    pub extras: Vec<usize>,
    /// Columns of the table whose type stays: what does not fit is a reject.
    pub firm: Vec<String>,
}

/// Holds a file against its table. `renames` are columns that seem to be others under new names:
/// of those the policy follows, the file's columns bear the table's names already.
pub fn judge(table: &Layout, file: &Layout, policy: &Policy, renames: &[Rename]) -> Judged {
    let is_named = |names: &[String], column: &Column| {
        let key = |name: &str| match_key(name);
        names.iter().any(|name| *name == column.source || key(name) == key(&column.source))
    };
    let taken: Vec<usize> =
        (0..file.columns.len()).filter(|at| !is_named(&policy.ignore, &file.columns[*at])).collect();
    let seen = Layout {
        columns: taken.iter().map(|at| file.columns[*at].clone()).collect(),
        parts: file.parts.clone(),
    };
    let mut fit = reconcile(table, &seen);
    fit.sources.iter_mut().flatten().for_each(|at| *at = taken[*at]);
    let mut judged = Judged { fit, ..Judged::default() };
    judged.note_spellings(table, file);
    judged.settle_new(table, file, policy, renames, &is_named);
    judged.settle_missing(policy, renames, table);
    judged.settle_wider(table, file, policy);
    judged.fit.changes = judged
        .drift
        .iter()
        .filter(|drift| matches!(drift.action, Action::Added | Action::Widened | Action::Rereading))
        .map(|drift| drift.change.clone())
        .collect();
    judged
}

impl Judged {
    fn hold(&mut self, change: Change, held: HeldChange) {
        self.drift.push(Drift::of(change, Action::Held));
        self.held.push(held);
    }

    fn done(&mut self, change: Change, action: Action) {
        self.drift.push(Drift::of(change, action));
    }

    /// Names written another way, and values.
    fn note_spellings(&mut self, table: &Layout, file: &Layout) {
        for at in 0..table.columns.len() {
            let Some(source) = self.fit.sources[at] else { continue };
            let (old, new) = (&table.columns[at], &file.columns[source]);
            let column = old.name.clone();
            if old.source != new.source && match_key(&old.source) == match_key(&new.source) {
                let (from, to) = (old.source.clone(), new.source.clone());
                self.drift.push(Drift::noted(Change::Respelled { column: column.clone(), from, to }));
                self.fit.layout.columns[at].source.clone_from(&new.source);
            } else if old.source != new.source && old.name == new.name {
                let (from, to) = (old.source.clone(), new.source.clone());
                self.done(Change::Renamed { column: column.clone(), from, to }, Action::Followed);
                self.fit.layout.columns[at].source.clone_from(&new.source);
            }
            if let Some((from, to)) = misread(old, new) {
                self.drift.push(Drift::noted(Change::Misread { column, from, to }));
            } else if let Some((from, to)) = other_format(old, new) {
                self.drift.push(Drift::noted(Change::Format { column, from, to }));
            }
        }
    }

    fn settle_new(
        &mut self,
        table: &Layout,
        file: &Layout,
        policy: &Policy,
        renames: &[Rename],
        is_named: &dyn Fn(&[String], &Column) -> bool,
    ) {
        let width = table.columns.len();
        let fresh: Vec<usize> = self.fit.sources.drain(width..).flatten().collect();
        self.fit.layout.columns.truncate(width);
        for at in fresh {
            let new = &file.columns[at];
            let added = Change::Added { column: new.name.clone(), to: new.ty() };
            let wanted = is_named(&policy.add, new);
            let rename = renames.iter().find(|rename| rename.new == at);
            if let Some(rename) = rename.filter(|_| policy.renamed_column == RenamedColumn::Hold && !wanted) {
                let gone = &table.columns[rename.gone];
                let held = HeldChange::RenamedColumn {
                    gone: gone.source.clone(),
                    new: new.source.clone(),
                    alike: rename.alike,
                };
                let (column, from, to) = (gone.name.clone(), gone.source.clone(), new.source.clone());
                self.hold(Change::Renamed { column, from, to }, held);
                continue;
            }
            match policy.new_column {
                _ if wanted => self.add(new, at, added),
                NewColumn::Add => self.add(new, at, added),
                NewColumn::Ignore => self.done(added, Action::LeftOut),
                NewColumn::Extras => {
                    self.extras.push(at);
                    self.done(added, Action::KeptAsExtra);
                }
                NewColumn::Hold => {
                    let held = HeldChange::NewColumn { column: new.source.clone(), ty: new.ty() };
                    self.hold(added, held);
                }
            }
        }
        self.add_extras_column(file);
    }

    /// Adds the column for extras where there are some and the table has none.
    fn add_extras_column(&mut self, file: &Layout) {
        let mut sources = self.fit.layout.columns.iter().zip(&self.fit.sources);
        let has_extras = sources.any(|(column, source)| source.is_none() && column.holds_extras());
        if self.extras.is_empty() || has_extras {
            return;
        }
        // A file may have a column of that name, too.
        let is_taken = |name: &str| {
            let mut all = self.fit.layout.columns.iter().chain(&file.columns);
            all.any(|column| column.name.eq_ignore_ascii_case(name))
        };
        let numbered = (2..).map(|number| format!("{EXTRAS_COLUMN}_{number}"));
        let name = std::iter::once(EXTRAS_COLUMN.to_owned()).chain(numbered).find(|name| !is_taken(name));
        let name = name.unwrap_or_else(|| EXTRAS_COLUMN.to_owned());
        self.fit.layout.columns.push(Column {
            name: name.clone(),
            source: EXTRAS_SOURCE.to_owned(),
            domain: Domain::Json,
            format: Format::default(),
            reading: Reading::Shown,
            nullable: true,
            pinned: None,
        });
        self.fit.sources.push(None);
        self.done(Change::Added { column: name, to: Type::Json }, Action::Added);
    }

    fn add(&mut self, new: &Column, at: usize, change: Change) {
        self.fit.layout.columns.push(Column { nullable: true, ..new.clone() });
        self.fit.sources.push(Some(at));
        self.done(change, Action::Added);
    }

    fn settle_missing(&mut self, policy: &Policy, renames: &[Rename], table: &Layout) {
        for (at, column) in table.columns.iter().enumerate() {
            if self.fit.sources[at].is_some() || column.holds_extras() {
                continue;
            }
            let held_as_renamed = policy.renamed_column == RenamedColumn::Hold
                && renames.iter().any(|rename| rename.gone == at)
                && self.drift.iter().any(
                    |drift| matches!(&drift.change, Change::Renamed { column: name, .. } if *name == column.name),
                );
            if held_as_renamed {
                continue;
            }
            let missing = Change::Missing { column: column.name.clone() };
            match policy.missing_column {
                MissingColumn::Null => self.done(missing, Action::Nulled),
                MissingColumn::Hold => {
                    self.hold(missing, HeldChange::MissingColumn { column: column.source.clone() });
                }
            }
        }
    }

    fn settle_wider(&mut self, table: &Layout, file: &Layout, policy: &Policy) {
        for (at, old) in table.columns.iter().enumerate() {
            let to = self.fit.layout.columns[at].ty();
            let (from, column) = (old.ty(), old.name.clone());
            let Some(source) = self.fit.sources[at].filter(|_| to != from) else { continue };
            let change = Change::Widened { column: column.clone(), from, to };
            let widened = match change.respells() || to == Type::Text && old.holds_only_words() {
                true => Action::Rereading,
                false => Action::Widened,
            };
            match by_kind(to, policy) {
                _ if from == Type::Unknown => self.done(change, widened),
                // A type that the user gives is what is wanted.
                _ if file.columns[source].pinned == Some(to) => self.done(change, widened),
                WiderType::Widen => self.done(change, widened),
                WiderType::Reject => {
                    let new = &file.columns[source];
                    let now = &mut self.fit.layout.columns[at];
                    (now.domain, now.pinned) = (old.domain, old.pinned);
                    if same_kind(old, new) {
                        now.format = new.format;
                    } else {
                        now.format = old.format;
                    }
                    self.firm.push(column);
                    self.done(change, Action::Rejected);
                }
                WiderType::Hold => {
                    let source = file.columns[source].source.clone();
                    self.hold(change, HeldChange::WiderType { column: source, from, to });
                }
            }
        }
    }
}

/// What becomes of a column that needs a type: text is of another kind than whatever was there.
fn by_kind(to: Type, policy: &Policy) -> WiderType {
    match (to, policy.other_kind) {
        (Type::Text, OtherKind::Widen) => WiderType::Widen,
        (Type::Text, OtherKind::Hold) => WiderType::Hold,
        (Type::Text, OtherKind::Reject | OtherKind::RejectAll) => WiderType::Reject,
        _ => policy.wider_type,
    }
}

/// How values were read while it was a guess, and how they turn out to be written, if that is another way.
fn misread(old: &Column, new: &Column) -> Option<(String, String)> {
    if (old.reading, new.reading) != (Reading::Guessed, Reading::Shown) {
        return None;
    }
    let (guess, shown) = (FormatHint::of(old.domain, old.format), FormatHint::of(new.domain, new.format));
    let words = |format: Format| format!("like {}", format.number.example());
    match (guess, shown) {
        (FormatHint { comma: Some(was), .. }, FormatHint { comma: Some(is), .. }) if was != is => {
            Some((words(old.format), words(new.format)))
        }
        (FormatHint { order: Some(was), .. }, FormatHint { order: Some(is), .. }) if was != is => {
            Some((was.words().to_owned(), is.words().to_owned()))
        }
        _ => None,
    }
}

/// How values were written and are now, where that is another way. Numbers without a decimal mark
/// and dates in the order of the standard say nothing.
fn other_format(old: &Column, new: &Column) -> Option<(String, String)> {
    let marks = |domain: Domain| matches!(domain, Domain::Number(digits) if digits.scale > 0);
    if marks(old.domain) && marks(new.domain) && old.format.number != new.format.number {
        let words = |format: Format| format!("like {}", format.number.example());
        return Some((words(old.format), words(new.format)));
    }
    let dated = |domain: Domain| matches!(domain, Domain::Date | Domain::Timestamp | Domain::TimestampTz);
    if dated(old.domain) && dated(new.domain) && old.format.date != new.format.date {
        return Some((old.format.date.words().to_owned(), new.format.date.words().to_owned()));
    }
    None
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::drift::Alike;
    use crate::spelling::{DateOrder, NullSet};
    use crate::types::Digits;

    fn column(name: &str, domain: Domain) -> Column {
        let format = Format::default();
        let reading = Reading::Shown;
        Column {
            name: name.into(),
            source: name.into(),
            domain,
            format,
            reading,
            nullable: false,
            pinned: None,
        }
    }

    fn whole() -> Domain {
        Domain::Number(Digits { int: 3, ..Digits::default() })
    }

    fn layout(columns: &[(&str, Domain)]) -> Layout {
        Layout { columns: columns.iter().map(|(name, d)| column(name, *d)).collect(), parts: Vec::new() }
    }

    fn actions(judged: &Judged) -> Vec<(&str, Action)> {
        judged.drift.iter().map(|drift| (drift.change.parts().0, drift.action)).collect()
    }

    #[rstest]
    #[case::add(NewColumn::Add, &[("new", Action::Added)], 3, false)]
    #[case::ignore(NewColumn::Ignore, &[("new", Action::LeftOut)], 2, false)]
    #[case::extras(NewColumn::Extras, &[("new", Action::KeptAsExtra), ("extras", Action::Added)], 3, false)]
    #[case::hold(NewColumn::Hold, &[("new", Action::Held)], 2, true)]
    fn a_new_column_goes_by_policy(
        #[case] new_column: NewColumn,
        #[case] expected: &[(&str, Action)],
        #[case] width: usize,
        #[case] held: bool,
    ) {
        let table = layout(&[("a", whole()), ("b", Domain::Text)]);
        let file = layout(&[("a", whole()), ("new", Domain::Date), ("b", Domain::Text)]);
        let judged = judge(&table, &file, &Policy { new_column, ..Policy::default() }, &[]);
        assert_eq!(actions(&judged), expected);
        assert_eq!(judged.fit.layout.columns.len(), width);
        assert_eq!(judged.fit.sources.len(), width);
        assert_eq!(&judged.fit.sources[..2], [Some(0), Some(2)]);
        assert_eq!(!judged.held.is_empty(), held);
    }

    #[rstest]
    #[case::widen(WiderType::Widen, Action::Widened, Type::Float, 1)]
    #[case::reject(WiderType::Reject, Action::Rejected, Type::Integer, 0)]
    #[case::hold(WiderType::Hold, Action::Held, Type::Float, 0)]
    fn a_wider_type_goes_by_policy(
        #[case] wider_type: WiderType,
        #[case] action: Action,
        #[case] ty: Type,
        #[case] changes: usize,
    ) {
        let (table, file) = (layout(&[("a", whole())]), layout(&[("a", Domain::of(Type::Float))]));
        let judged = judge(&table, &file, &Policy { wider_type, ..Policy::default() }, &[]);
        assert_eq!(actions(&judged), [("a", action)]);
        assert_eq!(judged.fit.layout.columns[0].ty(), ty);
        assert_eq!(judged.fit.changes.len(), changes);
    }

    /// Earlier files are read again only if they may hold values that the table does not show.
    #[rstest]
    #[case::nothing(NullSet::ALWAYS, Domain::Text, Action::Widened)]
    #[case::words(NullSet::ALL, Domain::Text, Action::Rereading)]
    #[case::words_among_days(NullSet::ALL, Domain::Date, Action::Widened)]
    fn files_are_read_again_where_words_become_values(
        #[case] nulls: NullSet,
        #[case] to: Domain,
        #[case] expected: Action,
    ) {
        let mut table = layout(&[("a", Domain::Unknown)]);
        table.columns[0].format.nulls = nulls;
        let judged = judge(&table, &layout(&[("a", to)]), &Policy::default(), &[]);
        assert_eq!(actions(&judged), [("a", expected)]);
        assert_eq!(judged.fit.changes.len(), 1);
    }

    #[rstest]
    #[case::widen(OtherKind::Widen, Action::Rereading, Type::Text)]
    #[case::reject(OtherKind::Reject, Action::Rejected, Type::Integer)]
    #[case::hold(OtherKind::Hold, Action::Held, Type::Text)]
    fn another_kind_goes_by_its_own_policy(
        #[case] other_kind: OtherKind,
        #[case] action: Action,
        #[case] ty: Type,
    ) {
        let (table, file) = (layout(&[("a", whole())]), layout(&[("a", Domain::Text)]));
        let policy = Policy { other_kind, wider_type: WiderType::Hold, ..Policy::default() };
        let judged = judge(&table, &file, &policy, &[]);
        assert_eq!(actions(&judged), [("a", action)]);
        assert_eq!(judged.fit.layout.columns[0].ty(), ty);
    }

    #[test]
    fn first_values_are_taken_whatever_the_policy() {
        let (table, file) = (layout(&[("a", Domain::Unknown)]), layout(&[("a", whole())]));
        let policy = Policy { wider_type: WiderType::Hold, ..Policy::default() };
        assert_eq!(actions(&judge(&table, &file, &policy, &[])), [("a", Action::Widened)]);
    }

    #[test]
    fn a_suspected_rename_is_held_once_and_let_through_when_the_column_is_wanted() {
        let table = layout(&[("id", whole()), ("draught", whole())]);
        let file = layout(&[("id", whole()), ("draft_m", whole())]);
        let alike = Alike { names: 0.7, range: Some(0.98), values: None, kinds: true, place: false };
        let renames = [Rename { gone: 1, new: 1, alike }];
        let judged = judge(&table, &file, &Policy::default(), &renames);
        assert_eq!(actions(&judged), [("draught", Action::Held)]);
        let held = HeldChange::RenamedColumn { gone: "draught".into(), new: "draft_m".into(), alike };
        assert_eq!(judged.held, [held]);
        let policy = Policy { add: vec!["draft_m".into()], ..Policy::default() };
        let judged = judge(&table, &file, &policy, &renames);
        assert_eq!(actions(&judged), [("draft_m", Action::Added), ("draught", Action::Nulled)]);
        assert!(judged.held.is_empty());
    }

    #[test]
    fn names_and_formats_written_another_way_are_noted() {
        let mut table = layout(&[("arrived", Domain::Date)]);
        table.columns[0].format.date = DateOrder::Dmy;
        let mut file = layout(&[("arrived", Domain::Date)]);
        file.columns[0].source = "Arrived".into();
        file.columns[0].format.date = DateOrder::Mdy;
        let judged = judge(&table, &file, &Policy::default(), &[]);
        let words: Vec<String> = judged.drift.iter().map(Drift::words).collect();
        assert_eq!(words.len(), 2, "{words:?}");
        assert_eq!(words[0], "column `arrived` is written `Arrived` now");
        assert!(words[1].contains("month-day-year"), "{words:?}");
        assert!(judged.fit.changes.is_empty());
        assert_eq!(judged.fit.layout.columns[0].source, "Arrived");
    }

    #[rstest]
    #[case::guessed(Reading::Guessed, Reading::Shown, "misread")]
    #[case::shown(Reading::Shown, Reading::Shown, "format")]
    #[case::guessed_again(Reading::Guessed, Reading::Guessed, "format")]
    fn a_guess_that_turns_out_wrong_is_told_from_a_change(
        #[case] before: Reading,
        #[case] now: Reading,
        #[case] change: &str,
    ) {
        let (mut table, mut file) = (layout(&[("day", Domain::Date)]), layout(&[("day", Domain::Date)]));
        (table.columns[0].format.date, table.columns[0].reading) = (DateOrder::Dmy, before);
        (file.columns[0].format.date, file.columns[0].reading) = (DateOrder::Mdy, now);
        let judged = judge(&table, &file, &Policy::default(), &[]);
        assert_eq!(judged.drift[0].change.parts().1, change);
        assert_eq!(judged.fit.layout.columns[0].reading, now);
    }

    #[test]
    fn a_column_to_be_ignored_is_as_if_it_were_not_there() {
        let (table, file) = (layout(&[("a", whole())]), layout(&[("Junk", whole()), ("a", whole())]));
        let policy = Policy { ignore: vec!["junk".into()], new_column: NewColumn::Hold, ..Policy::default() };
        let judged = judge(&table, &file, &policy, &[]);
        assert_eq!((judged.drift.len(), judged.held.len()), (0, 0));
        assert_eq!(judged.fit.sources, [Some(1)]);
    }
}
