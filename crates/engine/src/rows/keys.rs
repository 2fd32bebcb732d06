//! Which rows a key has, shared by all snapshots of a table.

use ahash::RandomState;
use hashbrown::HashTable;
use hashbrown::hash_table::Entry;

/// In the place of a row where there is none.
const NO_ROW: u32 = u32::MAX;

/// Rows by the hash of their key: the newest, and from each to the one before it. Keys are compared by whoever
/// has them.
#[derive(Debug, Default)]
pub(super) struct Keys {
    hasher: RandomState,
    newest: HashTable<u32>,
    hashes: Vec<u64>,
    before: Vec<u32>,
}

impl Keys {
    pub fn hash(&self, key: &str) -> u64 {
        self.hasher.hash_one(key)
    }

    /// Rows whose key may have this hash, the newest first.
    pub fn rows(&self, hash: u64) -> impl Iterator<Item = u32> {
        let newest = self.newest.find(hash, |row| self.hashes[*row as usize] == hash).copied();
        std::iter::successors(newest, |row| Some(self.before[*row as usize]).filter(|row| *row != NO_ROW))
    }

    /// Makes room for so many rows more.
    pub fn reserve(&mut self, n: usize) {
        let hashes = &self.hashes;
        self.newest.reserve(n, |row| hashes[*row as usize]);
        self.hashes.reserve(n);
        self.before.reserve(n);
    }

    /// Takes up the next row.
    pub fn push(&mut self, hash: u64) {
        let row = self.hashes.len() as u32;
        self.hashes.push(hash);
        let Keys { newest, hashes, before, .. } = self;
        let is_same = |row: &u32| hashes[*row as usize] == hash;
        match newest.entry(hash, is_same, |row| hashes[*row as usize]) {
            Entry::Occupied(mut entry) => before.push(std::mem::replace(entry.get_mut(), row)),
            Entry::Vacant(entry) => {
                entry.insert(row);
                before.push(NO_ROW);
            }
        }
    }

    /// The keys of some of the rows, which are numbered anew.
    pub fn gathered(&self, rows: &[u32]) -> Keys {
        let mut next = Keys { hasher: self.hasher.clone(), ..Keys::default() };
        rows.iter().for_each(|row| next.push(self.hashes[*row as usize]));
        next
    }

    pub fn n_bytes(&self) -> usize {
        8 * self.hashes.capacity() + 4 * self.before.capacity() + 5 * self.newest.capacity()
    }
}
