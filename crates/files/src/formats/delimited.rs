//! CSV cut into records and cells (RFC 4180), a record at a time and never more than a limit of it.
//!
//! A line of headings and lines of cells; a quoted cell may hold commas, line ends and, written twice, quotes. A
//! quote that is never closed, or that closes in the middle of a cell, is said so: it would swallow the lines after it.

use std::io::{self, BufRead, Read};

/// The cells of one record.
#[derive(Default)]
pub struct Cells {
    text: Vec<u8>,
    ends: Vec<usize>,
    n: usize,
}

impl Cells {
    pub fn len(&self) -> usize {
        self.n
    }

    pub fn iter(&self) -> impl Iterator<Item = &[u8]> {
        (0..self.n).map(|i| {
            let start = if i == 0 { 0 } else { self.ends[i - 1] };
            &self.text[start..self.ends[i]]
        })
    }
}

pub struct Records {
    reader: Box<dyn BufRead + Send>,
    core: csv_core::Reader,
    /// Bytes of one record.
    limit: usize,
    /// What has been read and not been cut yet.
    raw: Vec<u8>,
    at: usize,
    /// Lines that have been read.
    line: u64,
    pub cells: Cells,
}

/// What comes next.
pub enum Next {
    End,
    /// The cells hold the record that begins on this line.
    Record(u64),
    /// A record whose quotes are wrong; the reason completes the sentence "line 7 ...".
    Wrong(u64, String),
}

/// Why reading cannot go on: where, and what completes the sentence "line 7 ...".
pub struct Broken {
    pub line: u64,
    pub why: String,
}

/// The state of a scan of quotes.
#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    CellStart,
    Plain,
    Quoted,
    /// After a quote inside a quoted cell: its end, or half of a doubled quote.
    QuoteInQuoted,
}

/// Follows quotes; remembers the first that closes where no cell ends.
struct Quotes {
    state: State,
    misplaced: bool,
}

impl Quotes {
    fn scan(&mut self, bytes: &[u8]) {
        for &byte in bytes {
            self.state = match (self.state, byte) {
                (State::Quoted, b'"') => State::QuoteInQuoted,
                (State::Quoted, _) => State::Quoted,
                (State::QuoteInQuoted, b'"') => State::Quoted,
                (State::CellStart, b'"') => State::Quoted,
                (_, b',' | b'\n' | b'\r') => State::CellStart,
                (State::QuoteInQuoted, _) => {
                    self.misplaced = true;
                    State::Plain
                }
                _ => State::Plain,
            };
        }
    }
}

impl Records {
    pub fn new(reader: Box<dyn BufRead + Send>, limit: usize) -> Records {
        Records {
            reader,
            core: csv_core::Reader::new(),
            limit,
            raw: Vec::new(),
            at: 0,
            line: 0,
            cells: Cells::default(),
        }
    }

    /// Bytes of the record that was read last, as it is in the file.
    pub fn n_bytes(&self) -> usize {
        self.raw.len()
    }

    fn read_line(&mut self) -> io::Result<usize> {
        let room = (self.limit + 1).saturating_sub(self.raw.len()) as u64;
        let n = (&mut self.reader).take(room).read_until(b'\n', &mut self.raw)?;
        self.line += u64::from(n > 0);
        Ok(n)
    }

    /// Reads the lines of one record; the line on which it begins, and what is wrong with its quotes.
    fn read_raw(&mut self) -> Result<Option<(u64, Option<String>)>, Broken> {
        self.raw.clear();
        self.at = 0;
        let first = self.line + 1;
        let broken = |why: String| Broken { line: first, why };
        let mut quotes = Quotes { state: State::CellStart, misplaced: false };
        loop {
            let from = self.raw.len();
            let n = self.read_line().map_err(|e| broken(format!("cannot be read: {e}")))?;
            if n == 0 && from == 0 {
                return Ok(None);
            }
            // Most lines have no quote, and need no look at every byte.
            if quotes.state == State::Quoted || self.raw[from..].contains(&b'"') {
                quotes.scan(&self.raw[from..]);
            }
            if self.raw.len() > self.limit {
                let hint = if quotes.state == State::Quoted { "; is a closing quote missing?" } else { "" };
                let mb = self.limit / 1_000_000;
                return Err(broken(format!("begins a record that is longer than {mb} MB{hint}")));
            }
            if n == 0 && quotes.state == State::Quoted {
                return Err(broken(
                    "opens a quote that is never closed; the rows after it would be lost".into(),
                ));
            }
            if quotes.state != State::Quoted {
                break;
            }
        }
        let wrong = quotes.misplaced.then(|| match self.line - first {
            0 => "has a quote that closes in the middle of a cell; inside a quoted cell a quote is written twice".into(),
            _ => format!(
                "opens a quote that closes on line {} in the middle of a cell: a closing quote is missing, or a quote \
                 inside a cell is not written twice",
                self.line
            ),
        });
        Ok(Some((first, wrong)))
    }

    /// Reads the next record; blank lines are passed over.
    pub fn next(&mut self) -> Result<Next, Broken> {
        loop {
            if self.at >= self.raw.len() {
                match self.read_raw()? {
                    None => return Ok(Next::End),
                    Some((line, Some(why))) => {
                        self.at = self.raw.len();
                        return Ok(Next::Wrong(line, why));
                    }
                    Some((_, None)) => {}
                }
            }
            if self.cut() {
                return Ok(Next::Record(self.line - self.lines_of_record()));
            }
        }
    }

    /// Line ends inside the record.
    fn lines_of_record(&self) -> u64 {
        let ends = self.raw.iter().filter(|b| **b == b'\n').count() as u64;
        ends.saturating_sub(u64::from(self.raw.ends_with(b"\n")))
    }

    /// Cuts the next record out of what has been read; false when there is none.
    fn cut(&mut self) -> bool {
        use csv_core::ReadRecordResult::{End, InputEmpty, OutputEndsFull, OutputFull, Record};
        self.core.reset();
        let (mut n_text, mut n_ends) = (0, 0);
        let Cells { text, ends, n } = &mut self.cells;
        text.resize(text.len().max(self.raw.len() + 64), 0);
        ends.resize(ends.len().max(64), 0);
        loop {
            let (result, read, written, ended) =
                self.core.read_record(&self.raw[self.at..], &mut text[n_text..], &mut ends[n_ends..]);
            self.at += read;
            n_text += written;
            n_ends += ended;
            match result {
                // Nothing more: one last call ends a line that has no line end.
                InputEmpty => {}
                OutputFull => text.resize(text.len() * 2, 0),
                OutputEndsFull => ends.resize(ends.len() * 2, 0),
                Record => {
                    *n = n_ends;
                    // The other half of a line end.
                    if self.raw[self.at..] == *b"\n" {
                        self.at += 1;
                    }
                    return true;
                }
                End => return false,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A line, and its cells or what is wrong with it.
    type Read = Result<(u64, Vec<String>), (u64, String)>;

    fn records(text: &[u8], limit: usize) -> Vec<Read> {
        let mut records = Records::new(Box::new(io::Cursor::new(text.to_vec())), limit);
        let mut all = Vec::new();
        loop {
            match records.next() {
                Ok(Next::End) => return all,
                Ok(Next::Record(line)) => {
                    let cells = records.cells.iter().map(|c| String::from_utf8_lossy(c).into_owned());
                    all.push(Ok((line, cells.collect())));
                }
                Ok(Next::Wrong(line, why)) => all.push(Err((line, why))),
                Err(Broken { line, why }) => {
                    all.push(Err((line, why)));
                    return all;
                }
            }
        }
    }

    proptest! {
        #[test]
        fn records_come_back_as_the_usual_reader_reads_them(
            rows in prop::collection::vec(prop::collection::vec("[a,\"\n\r ;]{0,6}", 1..4), 0..12), crlf in any::<bool>(),
        ) {
            let end = if crlf { csv::Terminator::CRLF } else { csv::Terminator::Any(b'\n') };
            let mut writer = csv::WriterBuilder::new().flexible(true).terminator(end).from_writer(Vec::new());
            rows.iter().for_each(|row| writer.write_record(row).unwrap());
            let text = writer.into_inner().unwrap();
            let mut usual = csv::ReaderBuilder::new().flexible(true).has_headers(false).from_reader(text.as_slice());
            let want: Vec<Vec<String>> =
                usual.records().map(|r| r.unwrap().iter().map(str::to_owned).collect()).collect();
            let got: Vec<Vec<String>> = records(&text, 1 << 20).into_iter().map(|r| r.unwrap().1).collect();
            prop_assert_eq!(got, want);
        }

        #[test]
        fn any_bytes_end_in_records_or_reasons(bytes in prop::collection::vec(any::<u8>(), 0..400)) {
            let all = records(&bytes, 100);
            prop_assert!(all.len() <= bytes.len());
        }
    }

    #[test]
    fn lines_are_counted_also_inside_of_quotes() {
        let all = records(b"a,b\r\n\"x\ny\",1\r\n\r\nz,2", 100);
        let lines: Vec<u64> = all.into_iter().map(|r| r.unwrap().0).collect();
        assert_eq!(lines, [1, 2, 5]);
    }

    #[test]
    fn an_unclosed_quote_is_said_and_swallows_nothing_in_silence() {
        let never = records(b"a,b\n1,2\n3,\"oops\n5,6\n7,8\n", 1000);
        let (line, why) = never.last().unwrap().as_ref().unwrap_err();
        assert!(*line == 3 && why.contains("never closed"), "{line}: {why}");
        let late = records(b"a,b\n1,\"oops\n3,4\n5,\"six\"\n7,8\n", 1000);
        let (line, why) = late[1].as_ref().unwrap_err();
        assert!(*line == 2 && why.contains("closes on line 4"), "{line}: {why}");
        assert_eq!(late[2].as_ref().unwrap().1, ["7", "8"], "what follows is read");
        let long = records(format!("a\n\"{}", "x".repeat(5000)).as_bytes(), 1000);
        let (line, why) = long[1].as_ref().unwrap_err();
        assert!(*line == 2 && why.contains("closing quote missing"), "{line}: {why}");
    }
}
