//! Memory does not grow with a file, whatever its shape: of cells (rows times columns) only so many are held at once.

use hypodoke_testkit::{Run, Workshop, finish};
use rstest::rstest;

use crate::workshop;

/// The most memory that loading a file may take, in megabytes.
const MOST: u64 = 300;

/// Runs Python in the workshop.
fn python(shop: &Workshop, code: &str) -> Run {
    shop.write("run.py", code);
    let mut command = hypodoke_testkit::python();
    command.current_dir(shop.path("")).arg("run.py");
    finish(command)
}

/// Runs the program, and says how much memory it took at the most, in megabytes.
fn peak(shop: &Workshop, arguments: &str) -> (Run, u64) {
    let program = env!("CARGO_BIN_EXE_hypodoke");
    let code = format!(
        "import resource, subprocess, sys
run = subprocess.run([{program:?}] + {arguments:?}.split())
open('peak', 'w').write(str(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024))
sys.exit(run.returncode)"
    );
    let run = python(shop, &code);
    let peak = std::fs::read_to_string(shop.path("peak")).expect("a peak");
    (run, peak.parse().expect("a number"))
}

/// Records of few keys out of many.
const SPARSE_LINES: &str = "
with open('in/a.jsonl', 'w') as out:
    for i in range(60_000): out.write('{\"k%d\":1,\"z\":2}\\n' % (i % 450))";

/// A document of such records.
const SPARSE_DOCUMENT: &str = "
with open('in/a.json', 'w') as out:
    out.write('[' + ','.join('{\"k%d\":1,\"z\":2}' % (i % 450) for i in range(60_000)) + ']')";

/// Such records in lists.
const SPARSE_LISTS: &str = "
with open('in/a.jsonl', 'w') as out:
    for i in range(600):
        out.write('{\"id\":%d,\"l\":[%s]}\\n' % (i, ','.join('{\"k%d\":1}' % (j % 300) for j in range(100))))";

/// Rows that end early.
const SHORT_ROWS: &str = "
with open('in/a.csv', 'w') as out:
    out.write(','.join('c%d' % i for i in range(1500)) + '\\n')
    for i in range(120): out.write(','.join('%d' % (j % 10) for j in range(1500 if i % 2 else 800)) + '\\n')
    for i in range(60_000): out.write('%d,2\\n' % i)";

/// Rows of empty fields.
const EMPTY_FIELDS: &str = "
with open('in/a.csv', 'w') as out:
    out.write(','.join('c%d' % i for i in range(1500)) + '\\n')
    for i in range(20_000): out.write('%d' % i + ',' * 1499 + '\\n')";

/// Columns of nulls, which take a few bytes for all rows.
const NULL_COLUMNS: &str = "
import pyarrow as pa, pyarrow.parquet as pq
rows = 60_000
columns = {'c%d' % i: pa.nulls(rows, pa.int64()) for i in range(1000)}
pq.write_table(pa.table({'id': pa.array(range(rows)), **columns}), 'in/a.parquet')";

/// Rows whose last cell stands far to the right.
const WIDE_SHEET: &str = "
import zipfile
def letters(n):
    s = ''
    while n: n, r = divmod(n - 1, 26); s = chr(65 + r) + s
    return s
head = ''.join('<c r=\"%s1\" t=\"inlineStr\"><is><t>c%d</t></is></c>' % (letters(i), i) for i in range(1, 1001))
rows = ''.join('<row r=\"%d\"><c r=\"A%d\"><v>%d</v></c><c r=\"ALL%d\"><v>7</v></c></row>' % (r, r, r, r) for r in range(2, 60_002))
ns = 'http://schemas.openxmlformats.org/'
with zipfile.ZipFile('in/a.xlsx', 'w', zipfile.ZIP_DEFLATED) as book:
    book.writestr('[Content_Types].xml', '<Types xmlns=\"' + ns + 'package/2006/content-types\"><Default Extension=\"rels\" ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/><Default Extension=\"xml\" ContentType=\"application/xml\"/><Override PartName=\"/xl/workbook.xml\" ContentType=\"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml\"/><Override PartName=\"/xl/worksheets/sheet1.xml\" ContentType=\"application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml\"/></Types>')
    book.writestr('_rels/.rels', '<Relationships xmlns=\"' + ns + 'package/2006/relationships\"><Relationship Id=\"r1\" Type=\"' + ns + 'officeDocument/2006/relationships/officeDocument\" Target=\"xl/workbook.xml\"/></Relationships>')
    book.writestr('xl/workbook.xml', '<workbook xmlns=\"' + ns + 'spreadsheetml/2006/main\" xmlns:r=\"' + ns + 'officeDocument/2006/relationships\"><sheets><sheet name=\"S\" sheetId=\"1\" r:id=\"r1\"/></sheets></workbook>')
    book.writestr('xl/_rels/workbook.xml.rels', '<Relationships xmlns=\"' + ns + 'package/2006/relationships\"><Relationship Id=\"r1\" Type=\"' + ns + 'officeDocument/2006/relationships/worksheet\" Target=\"worksheets/sheet1.xml\"/></Relationships>')
    book.writestr('xl/worksheets/sheet1.xml', '<worksheet xmlns=\"' + ns + 'spreadsheetml/2006/main\"><sheetData><row r=\"1\">' + head + '</row>' + rows + '</sheetData></worksheet>')";

#[rstest]
#[case::sparse_lines(SPARSE_LINES, 60_000)]
#[case::sparse_document(SPARSE_DOCUMENT, 60_000)]
#[case::sparse_lists(SPARSE_LISTS, 600)]
#[case::short_rows(SHORT_ROWS, 60_120)]
#[case::empty_fields(EMPTY_FIELDS, 20_000)]
#[case::null_columns(NULL_COLUMNS, 60_000)]
#[case::wide_sheet(WIDE_SHEET, 60_000)]
fn a_file_of_any_shape_takes_little_memory(#[case] code: &str, #[case] rows: u64) {
    let shop = workshop();
    std::fs::create_dir(shop.path("in")).expect("a folder");
    let made = python(&shop, code);
    assert_eq!(made.code, Some(0), "{}", made.err);
    let (run, peak) = peak(&shop, "load in --into sqlite:h.db --table a");
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM a"), [rows.to_string()]);
    assert!(peak <= MOST, "{peak} MB");
}

/// A file that has few of the columns of its table.
#[rstest]
#[case::text("in/b.csv", "'id,c7\\n' + ''.join('%d,2\\n' % i for i in range(60_000))")]
#[case::lines("in/b.jsonl", "''.join('{\"id\":%d,\"c7\":2}\\n' % i for i in range(60_000))")]
fn a_narrow_file_for_a_wide_table_takes_little_memory(#[case] path: &str, #[case] text: &str) {
    let shop = workshop();
    std::fs::create_dir(shop.path("in")).expect("a folder");
    let names: Vec<String> = (0..1500).map(|at| format!("c{at}")).collect();
    shop.write("in/a.csv", format!("id,{}\n1{}\n", names.join(","), ",1".repeat(1500)));
    let load = "load in --into sqlite:h.db --table a";
    shop.ok(load);
    let made = python(&shop, &format!("open('{path}', 'w').write({text})"));
    assert_eq!(made.code, Some(0), "{}", made.err);
    let (run, peak) = peak(&shop, load);
    assert!(matches!(run.code, Some(0 | 3)), "{}{}", run.out, run.err);
    assert_eq!(shop.query("h.db", "SELECT count(*), sum(c7) FROM a"), ["60001|120001"]);
    assert!(peak <= MOST, "{peak} MB");
}

/// Of many keys each record has a few: they are data. The file ends with a reason, before it takes memory or time.
#[rstest]
#[case::lines(
    "in/a.jsonl",
    "''.join('{\"k%d\":1,\"z\":2}\\n' % (i % 1500) for i in range(20_000))",
    "the objects at $"
)]
#[case::lists(
    "in/a.json",
    "'[{\"l\":[' + ','.join('{\"k%d\":1,\"z\":2}' % (i % 1500) for i in range(20_000)) + ']}]'",
    "the objects at l"
)]
fn keys_that_are_data_are_known_by_how_few_of_them_a_record_has(
    #[case] path: &str,
    #[case] text: &str,
    #[case] words: &str,
) {
    let shop = workshop();
    std::fs::create_dir(shop.path("in")).expect("a folder");
    let made = python(&shop, &format!("open('{path}', 'w').write({text})"));
    assert_eq!(made.code, Some(0), "{}", made.err);
    let (run, peak) = peak(&shop, "load in --into sqlite:h.db --table a");
    let all = format!("{}{}", run.out, run.err);
    assert!(run.code == Some(1) && all.contains(words) && all.contains("the keys are data"), "{all}");
    assert!(peak <= MOST, "{peak} MB");
}
