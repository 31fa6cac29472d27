//! Units from a table in CSV (RFC 4180), as spreadsheets write it: any of the usual separators, a
//! byte order mark, empty rows and columns at the end.

/// The most rows of a table.
const MAX_ROWS: usize = 100_000;
/// The most columns of a table.
const MAX_COLUMNS: usize = 200;

/// A cell, and its line in the file, from 1.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Cell {
    pub(crate) text: String,
    pub(crate) line: usize,
}

/// A table with a header.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Sheet {
    /// The names of the columns, from the first row.
    pub(crate) head: Vec<Cell>,
    /// The other rows that are not empty; as many cells as the head has.
    pub(crate) rows: Vec<Vec<Cell>>,
}

/// What is wrong with a table, at a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SheetFault {
    pub(crate) line: usize,
    pub(crate) what: String,
    pub(crate) remedy: String,
}

fn fault(line: usize, what: impl Into<String>, remedy: impl Into<String>) -> SheetFault {
    SheetFault {
        line,
        what: what.into(),
        remedy: remedy.into(),
    }
}

/// The text of a table; a spreadsheet's own encodings are told by name.
pub(crate) fn text_of(bytes: &[u8]) -> Result<String, String> {
    match bytes {
        [0xff, 0xfe, ..] | [0xfe, 0xff, ..] => return Err("it is UTF-16".to_owned()),
        [b'P', b'K', 3, 4, ..] => return Err("it is a spreadsheet, not CSV".to_owned()),
        _ => {}
    }
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    match std::str::from_utf8(bytes) {
        Ok(text) => Ok(text.to_owned()),
        Err(error) => {
            let before = &bytes[..error.valid_up_to()];
            let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
            Err(format!("line {line} is not UTF-8"))
        }
    }
}

impl Sheet {
    /// Reads a table; all faults at once.
    pub(crate) fn read(text: &str) -> Result<Self, Vec<SheetFault>> {
        let (separator, text, skipped) = separator_of(text);
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(separator)
            .has_headers(false)
            .flexible(true)
            .from_reader(text.as_bytes());
        let mut sheet = Self::default();
        let mut faults = Vec::new();
        for record in reader.records() {
            let record = match record {
                Ok(record) => record,
                Err(error) => {
                    let line = error.position().map_or(1, |at| at.line() as usize);
                    let remedy = "save the table as CSV again";
                    faults.push(fault(line + skipped, error.to_string(), remedy));
                    break;
                }
            };
            let line = record.position().map_or(1, |at| at.line() as usize) + skipped;
            sheet.take(&record, line, &mut faults);
            if sheet.rows.len() > MAX_ROWS {
                let what = format!("there are more than {MAX_ROWS} rows");
                faults.push(fault(line, what, "several rosters"));
                break;
            }
        }
        if sheet.head.is_empty() && faults.is_empty() {
            faults.push(fault(1, "the table is empty", "a first row with names"));
        }
        if faults.is_empty() {
            Ok(sheet)
        } else {
            Err(faults)
        }
    }

    fn take(&mut self, record: &csv::StringRecord, line: usize, faults: &mut Vec<SheetFault>) {
        let cells: Vec<Cell> = record.iter().map(|cell| cell_of(cell, line)).collect();
        if cells.iter().all(|cell| cell.text.is_empty()) {
            return;
        }
        if self.head.is_empty() {
            self.take_head(cells, line, faults);
            return;
        }
        let count = self.head.len();
        let extra = cells.iter().skip(count).find(|cell| !cell.text.is_empty());
        if let Some(extra) = extra {
            let what = format!("`{}` is in a column without a name", extra.text);
            let remedy = "quote cells with separators in them: \"a; b\"";
            faults.push(fault(line, what, remedy));
        }
        let mut cells = cells;
        let none = Cell {
            text: String::new(),
            line,
        };
        cells.resize(count, none);
        self.rows.push(cells);
    }

    fn take_head(&mut self, mut cells: Vec<Cell>, line: usize, faults: &mut Vec<SheetFault>) {
        while cells.last().is_some_and(|cell| cell.text.is_empty()) {
            cells.pop();
        }
        if cells.len() > MAX_COLUMNS {
            let what = format!("there are more than {MAX_COLUMNS} columns");
            faults.push(fault(
                line,
                what,
                "the first row has the names of the columns",
            ));
            cells.truncate(MAX_COLUMNS);
        }
        for (nth, cell) in cells.iter().enumerate() {
            if cell.text.is_empty() {
                let what = format!("column {} has no name", nth + 1);
                faults.push(fault(line, what, "a name for it, or remove it"));
            } else if cells[..nth].iter().any(|other| other.text == cell.text) {
                let what = format!("two columns are called `{}`", cell.text);
                faults.push(fault(line, what, "each name once"));
            }
        }
        self.head = cells;
    }
}

/// A cell without the space around it. Spreadsheets put an apostrophe before what is to stay text,
/// and no-break spaces where people paste.
fn cell_of(text: &str, line: usize) -> Cell {
    let text = text.trim_matches(|c: char| c.is_whitespace() || c == '\u{a0}' || c == '\u{feff}');
    let text = text.strip_prefix('\'').unwrap_or(text);
    Cell {
        text: text.to_owned(),
        line,
    }
}

/// The separator: named in a first line `sep=;`, or the most frequent one in the first line.
/// Returns the text after that line, and how many lines were skipped.
fn separator_of(text: &str) -> (u8, &str, usize) {
    let first = text.lines().next().unwrap_or_default();
    let named = first.trim_end().strip_prefix("sep=");
    if let Some(&[separator]) = named.map(str::as_bytes) {
        let rest = text.split_once('\n').map_or("", |(_, rest)| rest);
        return (separator, rest, 1);
    }
    let count = |separator: u8| first.bytes().filter(|byte| *byte == separator).count();
    let best = [b'\t', b';', b',']
        .into_iter()
        .max_by_key(|separator| count(*separator));
    (best.unwrap_or(b','), text, 0)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn texts(sheet: &Sheet) -> Vec<Vec<&str>> {
        let rows = std::iter::once(&sheet.head).chain(&sheet.rows);
        rows.map(|row| row.iter().map(|cell| cell.text.as_str()).collect())
            .collect()
    }

    #[rstest]
    #[case::comma("unit,hostname\na,b\n")]
    #[case::semicolon("unit;hostname\r\na;b\r\n")]
    #[case::tab("unit\thostname\na\tb")]
    #[case::named("sep=;\nunit;hostname\na;b\n")]
    #[case::quoted("\"unit\";\"hostname\"\n\"a\";\"b\"\n;\n\n")]
    #[case::empty_columns("unit,hostname,,\na,b,,\n,,,\n")]
    #[case::spaces(" unit , hostname\n'a,\u{a0}b \n")]
    fn spreadsheets_tables_are_read(#[case] text: &str) {
        let sheet = Sheet::read(text).unwrap();
        assert_eq!(texts(&sheet), [["unit", "hostname"], ["a", "b"]]);
    }

    #[test]
    fn lines_are_those_of_the_file() {
        let sheet = Sheet::read("sep=,\nunit,note\na,\"two\nlines\"\nb,x\n").unwrap();
        let lines: Vec<usize> = sheet.rows.iter().map(|row| row[0].line).collect();
        assert_eq!(lines, [3, 5]);
        assert_eq!(sheet.rows[0][1].text, "two\nlines");
    }

    #[test]
    fn faults_are_told_at_once() {
        let faults = Sheet::read("unit,,unit\na,b,c,d\n").unwrap_err();
        let lines: Vec<usize> = faults.iter().map(|fault| fault.line).collect();
        assert_eq!(lines, [1, 1, 2], "{faults:?}");
    }

    #[rstest]
    #[case(b"\xff\xfeu\0", "it is UTF-16")]
    #[case(b"PK\x03\x04....", "it is a spreadsheet, not CSV")]
    #[case(b"unit\nH\xfctte\n", "line 2 is not UTF-8")]
    fn other_encodings_are_told(#[case] bytes: &[u8], #[case] why: &str) {
        assert_eq!(text_of(bytes), Err(why.to_owned()));
    }

    #[test]
    fn a_byte_order_mark_is_no_part_of_the_first_name() {
        let text = text_of(b"\xef\xbb\xbfunit\n").unwrap();
        assert_eq!(Sheet::read(&text).unwrap().head[0].text, "unit");
    }
}
