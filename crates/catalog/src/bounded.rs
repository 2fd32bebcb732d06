//! The database behind time limits: no statement, commit or connection is waited for without end.
//!
//! When a statement gets no answer in time, its connection may be lost for good (a frozen server, a
//! network that drops packets). The whole pool is then replaced, so that later calls use new connections.
//!
//! Each runtime has a pool of its own: what comes on a connection is heard by the runtime that opened it, and one whose
//! threads stand back would let all others wait.

use crate::error::{CatalogError, Result};
use futures::TryStreamExt;
use sea_orm::sqlx::ConnectOptions;
use sea_orm::sqlx::mysql::{MySqlConnectOptions, MySqlPoolOptions};
use sea_orm::{
    AccessMode, ConnectionTrait, DatabaseConnection, DatabaseTransaction, DbBackend, DbErr, ExecResult,
    IsolationLevel, QueryResult, RuntimeErr, SqlxMySqlConnector, Statement, StreamTrait, TransactionTrait,
};
use std::collections::HashMap;
use std::str::FromStr;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;
use tokio::runtime::Handle;

/// How long a statement may take unless the caller says otherwise.
pub const STATEMENT: Duration = Duration::from_secs(20);
/// How many times as long a statement may take that looks at every row of a collection.
const PATIENCE: u32 = 15;
/// How long a call may wait for a connection, new or from the pool.
const ACQUIRE: Duration = Duration::from_secs(5);

/// Locks are waited for shortly, because a transaction that waits is tried again as a whole. A transaction that its
/// client has forgotten ends by itself, so that its locks do. READ COMMITTED takes no locks on gaps between rows.
const SESSION: &str = "SET SESSION innodb_lock_wait_timeout = 8, SESSION idle_transaction_timeout = 60, \
                       SESSION tx_isolation = 'READ-COMMITTED'";

struct Pools {
    options: MySqlConnectOptions,
    statement: Duration,
    current: Mutex<HashMap<tokio::runtime::Id, Pool>>,
}

/// One of the pools that a runtime has had; the number tells them apart.
#[derive(Clone)]
struct Pool {
    n: u64,
    db: DatabaseConnection,
}

impl Pools {
    fn make(options: &MySqlConnectOptions) -> DatabaseConnection {
        let pool = MySqlPoolOptions::new()
            .max_connections(16)
            .acquire_timeout(ACQUIRE)
            .after_connect(|connection, _| {
                Box::pin(async move {
                    sea_orm::sqlx::Executor::execute(connection, SESSION).await?;
                    Ok(())
                })
            })
            .connect_lazy_with(options.clone());
        SqlxMySqlConnector::from_sqlx_mysql_pool(pool)
    }

    fn all(&self) -> MutexGuard<'_, HashMap<tokio::runtime::Id, Pool>> {
        self.current.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// That of the runtime which asks.
    fn current(&self) -> Pool {
        let first = || Pool { n: 0, db: Pools::make(&self.options) };
        self.all().entry(Handle::current().id()).or_insert_with(first).clone()
    }

    /// Replaces the pool that did not answer, unless another call has done so.
    fn replace(&self, silent: u64) {
        let mut all = self.all();
        let Some(current) = all.get_mut(&Handle::current().id()).filter(|pool| pool.n == silent) else {
            return;
        };
        let next = Pool { n: silent + 1, db: Pools::make(&self.options) };
        let old = std::mem::replace(current, next);
        drop(all);
        tokio::spawn(async move {
            // Polite when it can be; the connections go with the pool in any case.
            let _ = tokio::time::timeout(Duration::from_secs(60), old.db.close()).await;
        });
    }
}

/// The pools of connections, every call on them within a time limit. Clones share them.
#[derive(Clone)]
pub(crate) struct Bounded {
    pools: Arc<Pools>,
    limit: Duration,
}

fn silent(limit: Duration) -> DbErr {
    DbErr::Conn(RuntimeErr::Internal(format!("no answer within {} s", limit.as_secs_f64())))
}

impl Bounded {
    pub fn new(url: &str, statement: Duration) -> Result<Bounded> {
        let options = MySqlConnectOptions::from_str(url)
            .map_err(|e| CatalogError::Unavailable(format!("the database's address: {e}")))?
            .disable_statement_logging();
        let pools = Pools { options, statement, current: Mutex::default() };
        Ok(Bounded { pools: Arc::new(pools), limit: statement })
    }

    /// The same pool for statements that look at every row of a collection.
    pub fn patient(&self) -> Bounded {
        Bounded { limit: self.pools.statement * PATIENCE, ..self.clone() }
    }

    /// The same pool for calls that somebody waits for.
    pub fn within(&self, limit: Duration) -> Bounded {
        Bounded { limit: limit.min(self.limit), ..self.clone() }
    }

    /// The pool itself, without limits: for migrations.
    pub fn unbounded(&self) -> DatabaseConnection {
        self.pools.current().db
    }

    async fn limited<T, F: Future<Output = Result<T, DbErr>>>(
        &self,
        work: impl FnOnce(DatabaseConnection) -> F,
    ) -> Result<T, DbErr> {
        let Pool { n, db } = self.pools.current();
        match tokio::time::timeout(self.limit, work(db)).await {
            Ok(result) => result,
            Err(_) => {
                // A caller in a hurry does not condemn the pool.
                if self.limit >= ACQUIRE.min(self.pools.statement) {
                    self.pools.replace(n);
                }
                Err(silent(self.limit))
            }
        }
    }

    /// An answer on a connection of the pool with this number, which is replaced when none comes.
    async fn answered<T>(&self, of: u64, work: impl Future<Output = Result<T, DbErr>>) -> Result<T, DbErr> {
        tokio::time::timeout(self.limit, work).await.unwrap_or_else(|_| {
            self.pools.replace(of);
            Err(silent(self.limit))
        })
    }

    pub async fn begin(&self) -> Result<Tx> {
        self.begin_as(None, None).await
    }

    /// A transaction that sees one consistent state, and writes nothing.
    pub async fn begin_snapshot(&self) -> Result<Tx> {
        self.begin_as(Some(IsolationLevel::RepeatableRead), Some(AccessMode::ReadOnly)).await
    }

    async fn begin_as(&self, isolation: Option<IsolationLevel>, access: Option<AccessMode>) -> Result<Tx> {
        let of = self.pools.current().n;
        let inner = self.limited(|db| async move { db.begin_with_config(isolation, access).await }).await?;
        Ok(Tx { inner, of, bounded: self.clone() })
    }

    pub async fn ping(&self) -> Result<(), DbErr> {
        self.limited(|db| async move { db.ping().await }).await
    }

    pub async fn close(&self) {
        let all: Vec<Pool> = self.pools.all().values().cloned().collect();
        let close = futures::future::join_all(all.into_iter().map(|pool| pool.db.close()));
        let _ = tokio::time::timeout(Duration::from_secs(5), close).await;
    }
}

#[async_trait::async_trait]
impl ConnectionTrait for Bounded {
    fn get_database_backend(&self) -> DbBackend {
        DbBackend::MySql
    }
    async fn execute_raw(&self, statement: Statement) -> Result<ExecResult, DbErr> {
        self.limited(|db| async move { db.execute_raw(statement).await }).await
    }
    async fn execute_unprepared(&self, sql: &str) -> Result<ExecResult, DbErr> {
        self.limited(|db| async move { db.execute_unprepared(sql).await }).await
    }
    async fn query_one_raw(&self, statement: Statement) -> Result<Option<QueryResult>, DbErr> {
        self.limited(|db| async move { db.query_one_raw(statement).await }).await
    }
    async fn query_all_raw(&self, statement: Statement) -> Result<Vec<QueryResult>, DbErr> {
        self.limited(|db| async move { db.query_all_raw(statement).await }).await
    }
}

/// A transaction. Dropped without [`Tx::commit`] it is rolled back.
pub(crate) struct Tx {
    inner: DatabaseTransaction,
    of: u64,
    bounded: Bounded,
}

impl Tx {
    async fn limited<T>(&self, work: impl Future<Output = Result<T, DbErr>>) -> Result<T, DbErr> {
        self.bounded.answered(self.of, work).await
    }

    /// Commits. When the answer to the commit is lost, the writes may be kept or not: nobody knows, and
    /// the error says so.
    pub async fn commit(self) -> Result<()> {
        let Tx { inner, of, bounded } = self;
        bounded.answered(of, inner.commit()).await.map_err(|e| match e.into() {
            CatalogError::Unavailable(text) => CatalogError::Unsure(text),
            other => other,
        })
    }

    /// Undoes what was done, so that its locks are free when this returns.
    pub async fn rollback(self) -> Result<()> {
        let Tx { inner, of, bounded } = self;
        Ok(bounded.answered(of, inner.rollback()).await?)
    }

    /// Hands rows over one by one as they arrive.
    pub async fn each_row(
        &self,
        statement: Statement,
        mut each: impl FnMut(QueryResult) -> Result<()>,
    ) -> Result<()> {
        let mut rows = self.limited(self.inner.stream_raw(statement)).await?;
        while let Some(row) = self.limited(rows.try_next()).await? {
            each(row)?;
        }
        Ok(())
    }
}

#[async_trait::async_trait]
impl ConnectionTrait for Tx {
    fn get_database_backend(&self) -> DbBackend {
        DbBackend::MySql
    }
    async fn execute_raw(&self, statement: Statement) -> Result<ExecResult, DbErr> {
        self.limited(self.inner.execute_raw(statement)).await
    }
    async fn execute_unprepared(&self, sql: &str) -> Result<ExecResult, DbErr> {
        self.limited(self.inner.execute_unprepared(sql)).await
    }
    async fn query_one_raw(&self, statement: Statement) -> Result<Option<QueryResult>, DbErr> {
        self.limited(self.inner.query_one_raw(statement)).await
    }
    async fn query_all_raw(&self, statement: Statement) -> Result<Vec<QueryResult>, DbErr> {
        self.limited(self.inner.query_all_raw(statement)).await
    }
}

/// How often a transaction is tried again that lost a deadlock or waited too long for a lock.
const TRIES: u32 = 8;

/// Counts the tries of a transaction.
#[derive(Default)]
pub(crate) struct Retry {
    failed: u32,
}

impl Retry {
    /// Whether to try again after this error; waits a little first, longer each time.
    pub async fn again(&mut self, error: &CatalogError) -> bool {
        self.failed += 1;
        if !matches!(error, CatalogError::Busy(_)) || self.failed >= TRIES {
            return false;
        }
        // Two that met once should not meet again in step.
        let jitter = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
        let jitter = jitter.map_or(0, |t| u64::from(t.subsec_nanos()) % 10);
        tokio::time::sleep(Duration::from_millis((5 << self.failed) + jitter)).await;
        true
    }
}

/// Runs a transaction again while it loses deadlocks, or waits too long for a lock. Each attempt makes it whole again.
pub(crate) async fn retried<T, F: Future<Output = Result<T>>>(mut attempt: impl FnMut() -> F) -> Result<T> {
    let mut retry = Retry::default();
    loop {
        match attempt().await {
            Err(e) if retry.again(&e).await => {}
            other => return other,
        }
    }
}
