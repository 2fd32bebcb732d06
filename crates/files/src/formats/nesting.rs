//! How deep the columns of a Parquet file are nested, read before the Parquet reader sees the file: it recurses into
//! the schema, and a file of a few KB could end the process.
//!
//! The end of a file is its description, its length in four bytes, and `PAR1`. The description is a Thrift struct
//! (compact protocol) whose second field lists the nodes of the schema, depth first, each with its number of children.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};

/// Levels that columns are nested at most; each list takes two or three of them.
pub const MAX_LEVELS: usize = 40;
/// Bytes of a description.
const MAX_FOOTER: u64 = 256 << 20;
/// Levels of structs in the description itself.
const MAX_STRUCTS: usize = 32;

struct Reader<'a> {
    bytes: &'a [u8],
}

/// Types of the compact protocol.
mod kind {
    pub const TRUE: u8 = 1;
    pub const FALSE: u8 = 2;
    pub const BYTE: u8 = 3;
    pub const I16: u8 = 4;
    pub const I64: u8 = 6;
    pub const DOUBLE: u8 = 7;
    pub const BINARY: u8 = 8;
    pub const LIST: u8 = 9;
    pub const SET: u8 = 10;
    pub const MAP: u8 = 11;
    pub const STRUCT: u8 = 12;
}

impl<'a> Reader<'a> {
    fn byte(&mut self) -> Option<u8> {
        let (first, rest) = self.bytes.split_first()?;
        self.bytes = rest;
        Some(*first)
    }

    fn pass(&mut self, n: u64) -> Option<()> {
        self.bytes = self.bytes.get(usize::try_from(n).ok()?..)?;
        Some(())
    }

    fn varint(&mut self) -> Option<u64> {
        let mut value = 0;
        for shift in (0..64).step_by(7) {
            let byte = self.byte()?;
            value |= u64::from(byte & 0x7f) << shift;
            if byte & 0x80 == 0 {
                return Some(value);
            }
        }
        None
    }

    fn zigzag(&mut self) -> Option<i64> {
        let n = self.varint()?;
        Some((n >> 1) as i64 ^ -((n & 1) as i64))
    }

    /// The number and type of the next field; `None` inside at the end of the struct.
    fn field(&mut self, last: i64) -> Option<Option<(i64, u8)>> {
        let head = self.byte()?;
        if head == 0 {
            return Some(None);
        }
        let id = match head >> 4 {
            0 => self.zigzag()?,
            step => last + i64::from(step),
        };
        Some(Some((id, head & 0x0f)))
    }

    /// The length and the type of the items of a list.
    fn list(&mut self) -> Option<(u64, u8)> {
        let head = self.byte()?;
        let n = if head >> 4 == 15 { self.varint()? } else { u64::from(head >> 4) };
        Some((n, head & 0x0f))
    }

    fn skip(&mut self, kind: u8, in_list: bool, depth: usize) -> Option<()> {
        if depth > MAX_STRUCTS {
            return None;
        }
        match kind {
            kind::TRUE | kind::FALSE => self.pass(u64::from(in_list)),
            kind::BYTE => self.pass(1),
            kind::I16..=kind::I64 => self.varint().map(drop),
            kind::DOUBLE => self.pass(8),
            kind::BINARY => {
                let n = self.varint()?;
                self.pass(n)
            }
            kind::LIST | kind::SET => {
                let (n, items) = self.list()?;
                (0..n).try_for_each(|_| self.skip(items, true, depth + 1))
            }
            kind::MAP => {
                let n = self.varint()?;
                let kinds = if n > 0 { self.byte()? } else { 0 };
                (0..n).try_for_each(|_| {
                    self.skip(kinds >> 4, true, depth + 1)?;
                    self.skip(kinds & 0x0f, true, depth + 1)
                })
            }
            kind::STRUCT => {
                let mut last = 0;
                while let Some((id, kind)) = self.field(last)? {
                    self.skip(kind, false, depth + 1)?;
                    last = id;
                }
                Some(())
            }
            _ => None,
        }
    }

    /// The children of a schema node.
    fn children(&mut self) -> Option<u64> {
        let (mut last, mut children) = (0, 0);
        while let Some((id, kind)) = self.field(last)? {
            match (id, kind) {
                (5, kind::I16..=kind::I64) => children = u64::try_from(self.zigzag()?).ok()?,
                _ => self.skip(kind, false, 1)?,
            }
            last = id;
        }
        Some(children)
    }
}

/// The deepest level of the schema in a description; `None` when it cannot be read.
fn levels(description: &[u8]) -> Option<usize> {
    let mut reader = Reader { bytes: description };
    let mut last = 0;
    while let Some((id, kind)) = reader.field(last)? {
        if (id, kind) != (2, kind::LIST) {
            reader.skip(kind, false, 0)?;
            last = id;
            continue;
        }
        let (n, items) = reader.list()?;
        if items != kind::STRUCT {
            return None;
        }
        // Children still to come, level by level.
        let (mut open, mut deepest): (Vec<u64>, usize) = (Vec::new(), 0);
        for _ in 0..n {
            let children = reader.children()?;
            deepest = deepest.max(open.len());
            if let Some(left) = open.last_mut() {
                *left = left.checked_sub(1)?;
            }
            if children > 0 {
                open.push(children);
            }
            while open.last() == Some(&0) {
                open.pop();
            }
        }
        return Some(deepest);
    }
    None
}

/// Refuses a file whose columns are nested too deep; the error completes the sentence "x.parquet ...".
pub fn check(file: &mut File) -> io::Result<Result<(), String>> {
    let end = file.seek(SeekFrom::End(0))?;
    let cut = || {
        Ok(Err("is not a whole Parquet file: its end is missing; it may be cut off: write or copy it again"
            .to_owned()))
    };
    if end < 12 {
        return cut();
    }
    file.seek(SeekFrom::Start(end - 8))?;
    let mut tail = [0; 8];
    file.read_exact(&mut tail)?;
    let length = u64::from(u32::from_le_bytes([tail[0], tail[1], tail[2], tail[3]]));
    if &tail[4..] != b"PAR1" || length > end - 8 {
        return cut();
    }
    if length > MAX_FOOTER {
        return Ok(Err(format!("has a description of {length} bytes; {MAX_FOOTER} is the most")));
    }
    file.seek(SeekFrom::Start(end - 8 - length))?;
    let mut description = vec![0; length as usize];
    file.read_exact(&mut description)?;
    file.seek(SeekFrom::Start(0))?;
    Ok(match levels(&description) {
        None => Err("is not a whole Parquet file: its description cannot be read; it may be cut off: write or copy it again".into()),
        Some(n) if n > MAX_LEVELS => {
            Err(format!("nests its columns {n} levels deep; {MAX_LEVELS} is the most"))
        }
        Some(_) => Ok(()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The description of a chain of so many groups.
    fn chain(depth: usize) -> Vec<u8> {
        let mut out = vec![0x15, 2, 0x19, 0xfc];
        let mut n = depth + 1;
        while n >= 0x80 {
            out.push(n as u8 | 0x80);
            n >>= 7;
        }
        out.push(n as u8);
        for _ in 0..depth {
            // Field 4, a name; field 5, one child.
            out.extend([0x48, 1, b'a', 0x15, 2, 0]);
        }
        out.extend([0x48, 1, b'a', 0, 0]);
        out
    }

    #[test]
    fn levels_are_counted_however_many_there_are() {
        for depth in [0, 1, 39, 2000, 1_000_000] {
            assert_eq!(levels(&chain(depth)), Some(depth));
        }
    }

    #[test]
    fn any_bytes_are_read_without_end_or_recursion() {
        let deep = [vec![0x15, 2], vec![0x1c; 1_000_000]].concat();
        assert_eq!(levels(&deep), None);
        let chain = chain(5);
        for cut in 0..chain.len() - 1 {
            let _ = levels(&chain[..cut]);
        }
        let mut seed = 7u64;
        for _ in 0..2000 {
            let bytes: Vec<u8> = (0..200)
                .map(|_| {
                    seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                    (seed >> 33) as u8
                })
                .collect();
            let _ = levels(&bytes);
        }
    }
}
