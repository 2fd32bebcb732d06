//! Which nodes are alive: each says so every few seconds, by the database's clock.

use crate::connection::Catalog;
use crate::entity::{index, job, load};
use crate::error::{CatalogError, Result};
use chrono::{TimeDelta, Utc};
use sea_orm::sea_query::{Expr, ExprTrait};
use sea_orm::{ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QuerySelect};
use std::time::{Duration, Instant};

/// Seconds after which a node that is not heard of counts as gone.
pub const GONE_AFTER_S: u32 = 60;

/// Selects the nodes that were heard of lately.
fn living() -> String {
    format!("SELECT name FROM nodes WHERE seen_at > UTC_TIMESTAMP(3) - INTERVAL {GONE_AFTER_S} SECOND")
}

/// The condition that a row's node is gone.
fn node_is_gone() -> Expr {
    Expr::cust(format!("node NOT IN ({})", living()))
}

/// What a database server is like.
#[derive(Clone, Debug, PartialEq)]
pub struct Server {
    pub version: String,
    pub max_allowed_packet: u64,
    pub collation: String,
    /// Bytes that it keeps of its tables in memory.
    pub buffer_pool: u64,
    pub max_connections: u64,
    /// How far its clock is ahead of this machine's, in seconds.
    pub clock_ahead_s: f64,
    /// How long it took to answer.
    pub took: Duration,
}

impl Catalog {
    /// Asks the database server what it is like.
    pub async fn server(&self) -> Result<Server> {
        let sql = "SELECT VERSION() AS version, @@max_allowed_packet AS packet, @@collation_server AS collation, \
                   CAST(@@innodb_buffer_pool_size AS UNSIGNED) AS pool, CAST(@@max_connections AS UNSIGNED) AS connections, \
                   CAST(UNIX_TIMESTAMP(NOW(3)) * 1000 AS SIGNED) AS now";
        let (asked, start) = (Utc::now(), Instant::now());
        let db = self.db.within(Duration::from_secs(5));
        let row = db.query_one_raw(self.sql(sql.into(), vec![])).await?;
        let took = start.elapsed();
        let row = row.ok_or_else(|| CatalogError::Internal("the server said nothing of itself".into()))?;
        let middle = asked.timestamp_millis() as f64 + took.as_secs_f64() * 500.0;
        Ok(Server {
            version: row.try_get("", "version")?,
            max_allowed_packet: row.try_get("", "packet")?,
            collation: row.try_get("", "collation")?,
            buffer_pool: row.try_get("", "pool")?,
            max_connections: row.try_get("", "connections")?,
            clock_ahead_s: (row.try_get::<i64>("", "now")? as f64 - middle) / 1000.0,
            took,
        })
    }

    /// Nodes that were heard of lately.
    pub async fn living_nodes(&self) -> Result<Vec<String>> {
        let sql = format!("{} ORDER BY name", living());
        let rows = self.db.query_all_raw(self.sql(sql, vec![])).await?;
        rows.iter().map(|row| Ok(row.try_get("", "name")?)).collect()
    }

    /// Says that this node is alive.
    pub async fn node_lives(&self, node: &str) -> Result<()> {
        let sql = "INSERT INTO nodes (name, seen_at) VALUES (?, UTC_TIMESTAMP(3)) \
                   ON DUPLICATE KEY UPDATE seen_at = UTC_TIMESTAMP(3)";
        self.db.execute_raw(self.sql(sql.into(), vec![node.into()])).await?;
        Ok(())
    }

    /// Ends what nodes have left running that are gone: jobs fail, loads can be resumed. Returns how many jobs.
    pub async fn end_what_gone_nodes_left(&self) -> Result<u64> {
        let jobs: Vec<(i64, String)> = job::Entity::find()
            .select_only()
            .column(job::Column::Id)
            .column(job::Column::Node)
            .filter(job::Column::State.eq("running"))
            .filter(node_is_gone())
            .limit(1000)
            .into_tuple()
            .all(&self.db)
            .await?;
        let mut nodes: Vec<&String> = jobs.iter().map(|(_, node)| node).collect();
        nodes.sort();
        nodes.dedup();
        let mut ended = 0;
        for node in nodes {
            self.stop_left_loads(node).await?;
            ended += self.fail_left_jobs(node).await?;
        }
        Ok(ended)
    }

    /// Jobs of a node that are running, but for those of the last minute, whose start may not have been told yet.
    pub async fn running_jobs(&self, node: &str) -> Result<Vec<i64>> {
        Ok(job::Entity::find()
            .select_only()
            .column(job::Column::Id)
            .filter(job::Column::Node.eq(node))
            .filter(job::Column::State.eq("running"))
            .filter(job::Column::CreatedAt.lt(Utc::now() - TimeDelta::minutes(1)))
            .limit(1000)
            .into_tuple()
            .all(&self.db)
            .await?)
    }

    /// Loads of a node that are running, but for those that began within the last minute.
    pub async fn running_loads(&self, node: &str) -> Result<Vec<load::Model>> {
        let running = load::Entity::find()
            .filter(load::Column::Node.eq(node))
            .filter(load::Column::State.eq("running"))
            .limit(1000)
            .all(&self.db)
            .await?;
        // A load that was resumed has begun with its job.
        let ids = running.iter().map(|l| l.job_id);
        let young: Vec<i64> = job::Entity::find()
            .select_only()
            .column(job::Column::Id)
            .filter(job::Column::Id.is_in(ids))
            .filter(job::Column::CreatedAt.gt(Utc::now() - TimeDelta::minutes(1)))
            .into_tuple()
            .all(&self.db)
            .await?;
        let old = |l: &load::Model| l.created_at < Utc::now() - TimeDelta::minutes(1);
        Ok(running.into_iter().filter(|l| old(l) && !young.contains(&l.job_id)).collect())
    }

    /// Takes over the build of an index whose node is gone. Of several that try, one gets it.
    pub async fn take_over_build(&self, id: i64, node: &str) -> Result<bool> {
        let taken = index::Entity::update_many()
            .col_expr(index::Column::Node, Expr::value(node))
            .filter(index::Column::Id.eq(id))
            .filter(index::Column::State.eq("building"))
            .filter(node_is_gone().or(index::Column::Node.eq(node)))
            .exec(&self.db)
            .await?;
        Ok(taken.rows_affected == 1)
    }

    /// Forgets the oldest jobs and loads that ended, so that their tables do not grow without end.
    pub async fn forget_old_work(&self, keep: u64) -> Result<()> {
        let newest: Option<i64> = job::Entity::find()
            .select_only()
            .column_as(job::Column::Id.max(), "newest")
            .into_tuple::<Option<i64>>()
            .one(&self.db)
            .await?
            .flatten();
        let Some(below) = newest.map(|n| n - keep as i64).filter(|n| *n > 0) else { return Ok(()) };
        job::Entity::delete_many()
            .filter(job::Column::Id.lt(below))
            .filter(job::Column::State.ne("running"))
            .exec(&self.db)
            .await?;
        load::Entity::delete_many()
            .filter(load::Column::JobId.lt(below))
            .filter(load::Column::State.eq("done"))
            .exec(&self.db)
            .await?;
        Ok(())
    }
}
