//! The survey as one JSON document; its schema is `docs/survey.schema.json`.

use hypodoke_core::evidence::{Against, ColumnReport};
use hypodoke_core::names::Namer;
use hypodoke_formats::text::{Delimiter, Escape, TextFacts};
use serde::Serialize;

use crate::wording::reasons;
use hypodoke_engine::inspect::{FileReport, FoundTable, Group, Survey, nearly_typed, open_choice};

/// The version of the document.
///
/// 1: files, layouts. A file may have several tables. Fields may be added without a new version.
const SURVEY_VERSION: u32 = 1;

/// The document.
#[derive(Serialize)]
pub struct Document {
    version: u32,
    files: Vec<File>,
    layouts: Vec<Layout>,
}

#[derive(Serialize)]
struct File {
    path: String,
    kind: Option<String>,
    encoding: Option<String>,
    compression: Option<&'static str>,
    dialect: Option<DialectLine>,
    tables: Vec<Table>,
    warnings: Vec<String>,
    error: Option<String>,
}

#[derive(Serialize)]
struct DialectLine {
    delimiter: String,
    quote: Option<String>,
    escape: Option<&'static str>,
    header: bool,
    header_lines: usize,
    skipped_lines: u64,
    footer_lines: usize,
}

#[derive(Serialize)]
struct Table {
    name: String,
    path: String,
    rows_at: Option<String>,
    is_child: bool,
    rows: u64,
    columns: Vec<Column>,
}

#[derive(Serialize)]
struct Column {
    name: String,
    source_name: String,
    #[serde(rename = "type")]
    ty: String,
    nullable: bool,
    nulls: u64,
    null_spellings: Vec<String>,
    distinct: u64,
    distinct_exact: bool,
    min: Option<String>,
    max: Option<String>,
    max_length: u64,
    format: Option<String>,
    ambiguity: Option<String>,
    against: Vec<AgainstLine>,
}

#[derive(Serialize)]
struct AgainstLine {
    #[serde(rename = "type")]
    ty: String,
    count: u64,
    line: u64,
    value: String,
}

#[derive(Serialize)]
struct Layout {
    name: String,
    path: String,
    pattern: String,
    files: Vec<String>,
    rows: u64,
    columns: Vec<Column>,
    warnings: Vec<String>,
}

/// Makes the document of a survey.
pub fn document(survey: &Survey) -> Document {
    Document {
        version: SURVEY_VERSION,
        files: survey.files.iter().map(file).collect(),
        layouts: survey.groups.iter().map(|group| layout(group, survey)).collect(),
    }
}

fn file(report: &FileReport) -> File {
    let mut line = File {
        path: report.path.clone(),
        kind: None,
        encoding: None,
        compression: None,
        dialect: None,
        tables: Vec::new(),
        warnings: report.warnings.clone(),
        error: None,
    };
    match &report.found {
        Err(error) => line.error = Some(reasons::of_error(error)),
        Ok(found) => {
            line.kind = Some(found.facts.kind.clone());
            line.encoding = found.encoding.map(str::to_owned);
            line.compression = found.compression;
            line.dialect = found.facts.text.as_ref().map(|text| dialect(text, found.footer.len()));
            let name = hypodoke_engine::discover::table_name(std::path::Path::new(&report.path));
            line.warnings.extend(found.columns().filter_map(open_choice));
            line.warnings.extend(found.columns().filter_map(nearly_typed));
            line.tables = found.tables.iter().map(|table| table_line(&name, table)).collect();
        }
    }
    line
}

fn dialect(text: &TextFacts, footer_lines: usize) -> DialectLine {
    DialectLine {
        delimiter: match text.dialect.delimiter {
            Delimiter::Char(c) => c.to_string(),
            Delimiter::Several(marks) => marks.text().to_owned(),
            Delimiter::Blanks => "blanks".to_owned(),
        },
        quote: text.dialect.quote.map(|quote| (quote as char).to_string()),
        escape: text.dialect.quote.map(|_| match text.dialect.escape {
            Escape::Doubled => "doubled",
            Escape::Backslash => "backslash",
        }),
        header: text.header_lines > 0,
        header_lines: text.header_lines,
        skipped_lines: text.skipped_lines,
        footer_lines,
    }
}

fn table_line(name: &str, table: &FoundTable) -> Table {
    let part = (!table.path.is_empty()).then(|| Namer::default().name(&table.path));
    Table {
        name: part.map_or_else(|| name.to_owned(), |part| format!("{name}_{part}")),
        path: table.path.clone(),
        rows_at: table.rows_at.clone(),
        is_child: table.is_child,
        rows: table.rows,
        columns: table.columns.iter().map(column).collect(),
    }
}

fn column(report: &ColumnReport) -> Column {
    let against = |against: &Against| AgainstLine {
        ty: against.narrower.clone(),
        count: against.count,
        line: against.spot.line,
        value: against.value.clone(),
    };
    Column {
        name: report.name.clone(),
        source_name: report.source.clone(),
        ty: report.ty.to_string(),
        nullable: report.nullable,
        nulls: report.nulls,
        null_spellings: report.null_spellings.iter().map(|(word, _)| word.clone()).collect(),
        distinct: report.distinct,
        distinct_exact: report.distinct_exact,
        min: report.min.clone(),
        max: report.max.clone(),
        max_length: report.max_length,
        format: report.format.clone(),
        ambiguity: report.ambiguity.clone(),
        against: report.against.iter().map(against).collect(),
    }
}

fn layout(group: &Group, survey: &Survey) -> Layout {
    Layout {
        name: group.name.clone(),
        path: group.path.clone(),
        pattern: group.pattern.clone(),
        files: group.files.iter().map(|at| survey.files[*at].path.clone()).collect(),
        rows: group.rows,
        columns: group.columns.iter().map(column).collect(),
        warnings: group.warnings.clone(),
    }
}
