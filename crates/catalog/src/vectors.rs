//! Vectors as the database keeps them: those of eight neighbouring records in one row. A row takes the database as long as
//! several kilobytes do, so that a load is quicker, while a change to one vector still writes little.
//!
//! A block tells by the bits of a byte which of its records have a vector; those lie behind each other. Whoever changes a
//! part of a block reads it first, under the lock of its collection.

use crate::bounded::Tx;
use crate::changes::floats;
use crate::connection::Catalog;
use crate::entity::vector_block;
use crate::error::Result;
use crate::statements::{FEW, Way, at_a_time, free, in_statements, placeholders};
use sea_orm::sea_query::Expr;
use sea_orm::{ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QuerySelect};
use std::collections::{BTreeMap, HashMap};

/// Records of a block.
pub(crate) const RECORDS: usize = 8;
/// Blocks that are read at a time: of the widest vectors 33 MB.
const SOME: usize = 64;

/// The block that a record's vector lies in, and its place there.
fn place(number: i64) -> (i64, usize) {
    let of = RECORDS as i64;
    (number.div_euclid(of), number.rem_euclid(of) as usize)
}

/// The blocks of some records, in order.
pub(crate) fn blocks_of(numbers: &[i64]) -> Vec<i64> {
    let mut blocks: Vec<i64> = numbers.iter().map(|number| place(*number).0).collect();
    blocks.sort_unstable();
    blocks.dedup();
    blocks
}

/// The vectors of a block by place.
type Places<T> = [Option<T>; RECORDS];

/// What lies in a block, by place. It has as many vectors of the same length as `taken` has bits.
fn by_place(taken: u8, data: &[u8]) -> Places<&[u8]> {
    let mut vectors = data.chunks_exact((data.len() / (taken.count_ones() as usize).max(1)).max(1));
    std::array::from_fn(|at| if taken >> at & 1 == 1 { vectors.next() } else { None })
}

/// A block's bits, and its bytes.
fn block_of(vectors: Places<&[u8]>) -> (u8, Vec<u8>) {
    let taken = vectors.iter().enumerate().map(|(at, v)| u8::from(v.is_some()) << at).sum();
    (taken, vectors.into_iter().flatten().collect::<Vec<_>>().concat())
}

/// SQL for the vector of the record `number` in the block that is joined as `block`, or NULL.
pub(crate) fn vector_of(block: &str, number: &str) -> String {
    let at = format!("({number} MOD {RECORDS})");
    let bytes = format!("(LENGTH({block}.data) DIV BIT_COUNT({block}.taken))");
    format!(
        "IF({block}.taken >> {at} & 1, \
         SUBSTRING({block}.data, BIT_COUNT({block}.taken & ((1 << {at}) - 1)) * {bytes} + 1, {bytes}), NULL)"
    )
}

/// SQL that joins the block of the record `number` in a column as `block`.
pub(crate) fn joined(block: &str, column: i64, number: &str) -> String {
    format!(
        " LEFT JOIN vector_blocks {block} ON {block}.column_id = {column} AND {block}.block = {number} DIV {RECORDS}"
    )
}

impl Catalog {
    async fn blocks(&self, tx: &Tx, column: i64, some: &[i64]) -> Result<HashMap<i64, vector_block::Model>> {
        let found = vector_block::Entity::find()
            .filter(vector_block::Column::ColumnId.eq(column))
            .filter(vector_block::Column::Block.is_in(some.iter().copied()))
            .all(tx)
            .await?;
        Ok(found.into_iter().map(|block| (block.block, block)).collect())
    }

    /// The vectors of some records in one column; those that have none are passed over.
    pub(crate) async fn stored_vectors(
        &self,
        tx: &Tx,
        column: i64,
        numbers: &[i64],
    ) -> Result<HashMap<i64, Vec<f32>>> {
        let mut vectors = HashMap::with_capacity(numbers.len());
        for some in blocks_of(numbers).chunks(SOME) {
            let blocks = self.blocks(tx, column, some).await?;
            let blocks: HashMap<i64, Places<&[u8]>> =
                blocks.iter().map(|(n, block)| (*n, by_place(block.taken, &block.data))).collect();
            vectors.extend(numbers.iter().filter_map(|number| {
                let (block, at) = place(*number);
                Some((*number, floats(blocks.get(&block)?[at]?)))
            }));
        }
        Ok(vectors)
    }

    /// Gives records vectors in one column in place of those they have, or takes them away. The collection is locked.
    pub(crate) async fn change_vectors(
        &self,
        tx: &Tx,
        column: i64,
        changes: impl IntoIterator<Item = (i64, Option<&[f32]>)>,
        way: Option<&dyn Way>,
    ) -> Result<()> {
        let mut blocks: BTreeMap<i64, Places<Option<&[u8]>>> = BTreeMap::new();
        for (number, vector) in changes {
            let (block, at) = place(number);
            blocks.entry(block).or_default()[at] = Some(vector.map(bytemuck::cast_slice));
        }
        let (whole, parts): (Vec<_>, Vec<_>) =
            blocks.into_iter().partition(|(_, changes)| changes.iter().all(|c| matches!(c, Some(Some(_)))));
        let whole = whole.into_iter().map(|(block, changes)| (block, block_of(changes.map(Option::flatten))));
        self.put_blocks(tx, column, whole.collect(), way).await?;
        for some in parts.chunks(SOME) {
            let numbers: Vec<i64> = some.iter().map(|(block, _)| *block).collect();
            let stored = self.blocks(tx, column, &numbers).await?;
            let (mut kept, mut gone) = (Vec::new(), Vec::new());
            for (block, changes) in some {
                let before = stored.get(block);
                let mut now = before.map_or([None; RECORDS], |b| by_place(b.taken, &b.data));
                now.iter_mut().zip(changes).for_each(|(now, change)| *now = change.unwrap_or(*now));
                match block_of(now) {
                    (0, _) if before.is_some() => gone.push(*block),
                    (0, _) => {}
                    block_now => kept.push((*block, block_now)),
                }
            }
            self.put_blocks(tx, column, kept, way).await?;
            if !gone.is_empty() {
                vector_block::Entity::delete_many()
                    .filter(vector_block::Column::ColumnId.eq(column))
                    .filter(vector_block::Column::Block.is_in(gone))
                    .exec(tx)
                    .await?;
            }
        }
        Ok(())
    }

    /// Inserts or replaces blocks.
    async fn put_blocks(
        &self,
        tx: &Tx,
        column: i64,
        mut blocks: Vec<(i64, (u8, Vec<u8>))>,
        way: Option<&dyn Way>,
    ) -> Result<()> {
        let limit = self.record_limit();
        let most = at_a_time(way, FEW / RECORDS);
        let parts = in_statements(&blocks, most, limit, |(_, (_, data))| data.len());
        let sizes: Vec<usize> = parts.iter().map(|some| some.len()).collect();
        for n in sizes {
            free(way).await;
            let values = blocks
                .drain(..n)
                .flat_map(|(block, (taken, data))| [column.into(), block.into(), taken.into(), data.into()]);
            let sql = format!(
                "INSERT INTO vector_blocks (column_id, block, taken, data) VALUES {} \
                 ON DUPLICATE KEY UPDATE taken = VALUES(taken), data = VALUES(data)",
                placeholders::<4>(n)
            );
            tx.execute_raw(self.sql(sql, values.collect())).await?;
        }
        Ok(())
    }

    /// Vectors of a column in the database, and their bytes.
    pub async fn vector_bytes(&self, column: i64) -> Result<(u64, u64)> {
        let sum: Option<(Option<i64>, Option<i64>)> = vector_block::Entity::find()
            .select_only()
            .column_as(Expr::cust("CAST(SUM(BIT_COUNT(taken)) AS SIGNED)"), "n")
            .column_as(Expr::cust("CAST(SUM(LENGTH(data)) AS SIGNED)"), "bytes")
            .filter(vector_block::Column::ColumnId.eq(column))
            .into_tuple()
            .one(&self.db.patient())
            .await?;
        Ok(sum.map_or((0, 0), |(n, bytes)| (n.unwrap_or(0) as u64, bytes.unwrap_or(0) as u64)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_block_gives_back_what_lies_in_it() {
        for (taken, bytes) in (0..=u8::MAX).flat_map(|taken| [4, 8, 1536].map(|bytes| (taken, bytes))) {
            let vectors: Vec<Vec<u8>> = (0..RECORDS).map(|at| vec![at as u8; bytes]).collect();
            let given: Places<&[u8]> =
                std::array::from_fn(|at| (taken >> at & 1 == 1).then_some(&vectors[at][..]));
            let (bits, data) = block_of(given);
            assert_eq!((bits, data.len()), (taken, bytes * taken.count_ones() as usize));
            assert_eq!(by_place(bits, &data), given);
        }
    }

    #[test]
    fn records_lie_in_blocks_by_number() {
        assert_eq!([0, 7, 8, 1001].map(place), [(0, 0), (0, 7), (1, 0), (125, 1)]);
    }
}
