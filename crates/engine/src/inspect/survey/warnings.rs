//! What is worth a person's look in one file.

use hypodoke_core::count;
use hypodoke_core::evidence::{Against, ColumnReport, Tally};
use hypodoke_core::sanitize::clean;
use hypodoke_core::types::Type;

use super::report::column_reports;
use crate::profile::FileProfile;

/// The warnings of one file.
pub fn of_file(profile: &FileProfile) -> Vec<String> {
    let mut warnings = profile.notes.clone();
    for table in profile.real_tables() {
        let evidence = &table.evidence;
        if evidence.rows == 0 && !table.head.is_child {
            warnings.push("the file has a header and no rows".to_owned());
        }
        let width = evidence.columns.len();
        for (fields, tally) in &evidence.ragged {
            let found = count::of(*fields as u64, "field", "fields");
            warnings.push(misfit(tally, &format!("{found} instead of {width}")));
        }
        if let Some(first) = evidence.faulty.first.as_ref() {
            let what = match &profile.facts.text {
                Some(_) => "a broken record: an unclosed quote, or bytes that are not text",
                None => &clean(&first.value),
            };
            warnings.push(misfit(&evidence.faulty, what));
        }
        for report in column_reports(table) {
            let remark = |remark: &String| format!("column `{}`: {}", report.name, clean(remark));
            warnings.extend(report.remarks.iter().map(remark));
        }
    }
    warnings
}

/// What the values of a column leave open.
pub fn open_choice(report: &ColumnReport) -> Option<String> {
    let open = report.ambiguity.as_ref()?;
    Some(format!("column `{}`: {open}", report.name))
}

/// A column that is text because of a few values only.
pub fn nearly_typed(report: &ColumnReport) -> Option<String> {
    let few = |against: &&Against| report.ty == Type::Text && against.count * 10 <= against.fitting;
    let against = report.against.iter().find(few)?;
    Some(format!(
        "column `{}` is text because of {}: {} in {} of {} rows; line {} holds `{}`",
        report.name,
        count::of(against.count, "value", "values"),
        against.narrower,
        count::number(against.fitting),
        count::number(against.fitting + against.count),
        count::number(against.spot.line),
        clean(&against.value),
    ))
}

fn misfit(tally: &Tally, what: &str) -> String {
    let line = tally.first.as_ref().map_or(0, |first| first.spot.line);
    format!("{} will be rejected: {what}, first on line {}", count::rows(tally.count), count::number(line))
}
