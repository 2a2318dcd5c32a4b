//! The account of what was met while the rows of a sheet were read.

/// What was met on the way.
#[derive(Clone, Debug, Default)]
pub struct Account {
    /// Rows beneath the table that are left out of it.
    pub footer: Vec<String>,
    /// What there is to say of totals among them.
    pub totals: Vec<String>,
    /// Cells that hold an error.
    pub errors: Occurrences,
    /// Numbers that the spreadsheet program has rounded.
    pub rounded: Occurrences,
    /// Numbers that are shown as percentages, with the sign of a currency, and as days that no calendar has.
    pub percentages: Occurrences,
    pub money: Occurrences,
    pub no_days: Occurrences,
    /// The rows of cells that hold an error are rejects.
    pub errors_rejected: bool,
}

/// How often something was met, and where first.
#[derive(Clone, Debug, Default)]
pub struct Occurrences {
    count: u64,
    first: Option<(String, String)>,
}

impl Occurrences {
    /// Counts one more, at a place and with what is shown there.
    pub fn add(&mut self, place: impl FnOnce() -> String, shown: impl FnOnce() -> String) {
        self.count += 1;
        if self.first.is_none() {
            self.first = Some((place(), shown()));
        }
    }

    /// Takes in what the other counted.
    pub fn merge(&mut self, other: Occurrences) {
        self.count += other.count;
        self.first = self.first.take().or(other.first);
    }
}

impl Account {
    /// Takes in what was met on another sheet.
    pub fn merge(&mut self, other: Account) {
        self.footer.extend(other.footer);
        self.totals.extend(other.totals);
        self.errors.merge(other.errors);
        self.rounded.merge(other.rounded);
        self.percentages.merge(other.percentages);
        self.money.merge(other.money);
        self.no_days.merge(other.no_days);
        self.errors_rejected |= other.errors_rejected;
    }

    /// The account in sentences.
    pub fn in_words(&self) -> Vec<String> {
        let mut words = self.totals.clone();
        let of = |tally: &Occurrences, one: &str, many: &str| {
            let (place, shown) = tally.first.clone()?;
            let what = if tally.count == 1 { format!("1 {one}") } else { format!("{} {many}", tally.count) };
            Some((what, place, shown))
        };
        if let Some((what, place, shown)) = of(&self.errors, "cell holds an error", "cells hold errors") {
            let fate = match (self.errors_rejected, self.errors.count) {
                (true, 1) => "its row is a reject",
                (true, _) => "their rows are rejects",
                _ => "taken as null",
            };
            words.push(format!("{what}, {fate}; first {place} with {shown}"));
        }
        if let Some((what, place, shown)) = of(&self.rounded, "number has", "numbers have") {
            words.push(format!("{what} more than 15 digits, the last of which the spreadsheet program has rounded; first {place} with {shown}"));
        }
        if let Some((what, place, kept)) = of(&self.percentages, "number is", "numbers are") {
            words.push(format!("{what} shown as percentages and kept as stored: first {place}, {kept}"));
        }
        if let Some((what, place, kept)) = of(&self.money, "number is", "numbers are") {
            words.push(format!(
                "{what} shown with the sign of a currency, which is left out: first {place}, {kept}"
            ));
        }
        if let Some((what, place, kept)) = of(&self.no_days, "number is", "numbers are") {
            words.push(format!(
                "{what} shown as a day that no calendar has, and stays a number: first {place}, {kept}"
            ));
        }
        words
    }
}
