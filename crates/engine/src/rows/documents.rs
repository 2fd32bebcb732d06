//! Keys and bodies of records: on the heap while they are new, then in segment files.

use crate::rows::chunked::Chunked;
use crate::rows::segments::segment::Segment;
use crate::tensors::{FileError, damaged};
use serde_json::{Map, Value};
use std::sync::Arc;

/// A key and the JSON of a body.
#[derive(Clone, Debug)]
struct Document {
    /// The key, then the body.
    text: Arc<str>,
    key_length: u32,
}

#[derive(Clone, Debug)]
enum Slot {
    Free,
    Held(Chunked<Document>),
    File(Arc<Segment>),
}

/// Keys and bodies by place. A place is given once, and stays until its slot is freed.
#[derive(Clone, Debug)]
pub(super) struct Documents {
    slots: Vec<Slot>,
    /// The slot that new ones go to.
    current: usize,
}

/// A block of bodies that was read last: bodies that lie together are unpacked once.
#[derive(Default)]
pub struct LastBlock {
    of: Option<(usize, usize)>,
    bytes: Vec<u8>,
}

fn split(place: i64) -> (usize, u32) {
    ((place >> 32) as usize, place as u32)
}

pub(super) fn place(slot: usize, at: usize) -> i64 {
    ((slot as i64) << 32) | at as i64
}

pub(super) fn slot_of(place: i64) -> usize {
    split(place).0
}

impl Default for Documents {
    fn default() -> Self {
        Documents { slots: vec![Slot::Held(Chunked::default())], current: 0 }
    }
}

impl Documents {
    /// Takes up a document; returns its place.
    pub fn push(&mut self, key: &str, body: &str) -> i64 {
        let Slot::Held(held) = &mut self.slots[self.current] else { unreachable!("new ones are held") };
        let text = [key, body].concat().into();
        held.push(Document { text, key_length: key.len() as u32 });
        place(self.current, held.len() - 1)
    }

    pub fn key(&self, place: i64) -> &str {
        let (slot, at) = split(place);
        match self.slots.get(slot) {
            Some(Slot::Held(held)) => held.get(at).map_or("", |d| &d.text[..d.key_length as usize]),
            Some(Slot::File(segment)) => segment.key(at as usize),
            _ => "",
        }
    }

    /// The JSON of a body.
    pub fn body<'a>(&'a self, place: i64, last: &'a mut LastBlock) -> Result<&'a [u8], FileError> {
        let (slot, at) = split(place);
        match self.slots.get(slot) {
            Some(Slot::Held(held)) => {
                Ok(held.get(at).map_or(&b"{}"[..], |d| &d.text.as_bytes()[d.key_length as usize..]))
            }
            Some(Slot::File(segment)) => {
                let (block, range) = segment.body_block(at as usize);
                let of = (Arc::as_ptr(segment).addr(), block);
                if last.of != Some(of) {
                    last.of = None;
                    segment.unpack(block, &mut last.bytes)?;
                    last.of = Some(of);
                }
                last.bytes.get(range).ok_or_else(|| damaged("a body is cut short"))
            }
            _ => Ok(b"{}"),
        }
    }

    /// A body, read.
    pub fn body_fields(&self, place: i64, last: &mut LastBlock) -> Result<Map<String, Value>, FileError> {
        serde_json::from_slice(self.body(place, last)?).map_err(|e| damaged(format!("a body: {e}")))
    }

    /// New documents go to a slot of their own from now on.
    pub fn seal(&mut self) {
        self.current = self.take(Slot::Held(Chunked::default()));
    }

    /// Puts a file where documents are found from now on.
    pub fn add_file(&mut self, segment: Arc<Segment>) -> usize {
        self.take(Slot::File(segment))
    }

    fn take(&mut self, slot: Slot) -> usize {
        match self.slots.iter().position(|s| matches!(s, Slot::Free)) {
            Some(free) => {
                self.slots[free] = slot;
                free
            }
            None => {
                self.slots.push(slot);
                self.slots.len() - 1
            }
        }
    }

    /// Nothing refers to a slot any more.
    pub fn free(&mut self, slot: usize) {
        self.slots[slot] = Slot::Free;
    }

    /// Frees what is held apart from new documents: files have taken it over.
    pub fn free_held(&mut self) {
        for (i, slot) in self.slots.iter_mut().enumerate() {
            if i != self.current && matches!(slot, Slot::Held(_)) {
                *slot = Slot::Free;
            }
        }
    }

    pub fn file(&self, slot: usize) -> Option<&Arc<Segment>> {
        match self.slots.get(slot) {
            Some(Slot::File(segment)) => Some(segment),
            _ => None,
        }
    }

    /// Bytes on the heap.
    pub fn n_bytes(&self) -> usize {
        let held = |slot: &Slot| match slot {
            Slot::Held(held) => held.chunks().flatten().map(|d| d.text.len() + 40).sum(),
            _ => 0,
        };
        self.slots.iter().map(held).sum()
    }

    /// Bytes of keys and bodies in mapped files.
    pub fn n_bytes_mapped(&self) -> usize {
        let mapped = |slot: &Slot| match slot {
            Slot::File(segment) => segment.n_bytes_documents(),
            _ => 0,
        };
        self.slots.iter().map(mapped).sum()
    }
}
