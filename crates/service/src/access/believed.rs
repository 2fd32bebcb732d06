//! Secrets that were good when the database was last asked. However many requests come with a secret, it is asked about
//! once at a time; and while a secret is in use, it is asked about before what is known of it is too old, so that no
//! request waits for the database.

use crate::access::grant::Grant;
use crate::node::database::Silence;
use crate::problem::{Kind, Problem, Result};
use chrono::{DateTime, Utc};
use futures::FutureExt;
use futures::future::{BoxFuture, Shared};
use parking_lot::Mutex;
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;
use zesty_catalog::CatalogError;

/// How long a good secret is believed without asking.
const FRESH: Duration = Duration::from_secs(1);
/// How long it is believed while it is asked about: a removed secret dies within this.
const BELIEVED: Duration = Duration::from_secs(2);
/// The same while an answer that was asked for in time is late.
const LATE: Duration = Duration::from_secs(10);

/// What a secret is: the same text opens nothing as the other kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Opens {
    Key,
    Session,
}

/// A secret by its kind and its SHA-256.
type Of = (Opens, [u8; 32]);

/// What a secret opens, as the database says, and until when.
#[derive(Clone)]
pub struct Open {
    pub grant: Grant,
    pub ends_at: Option<DateTime<Utc>>,
}

/// Why the database said nothing about a secret.
pub enum Unsaid {
    Catalog(CatalogError),
    Problem(Problem),
}

/// Asks the database about the hash of a secret.
type Ask = Box<dyn Fn(Opens, [u8; 32]) -> BoxFuture<'static, Result<Option<Open>, Unsaid>> + Send + Sync>;

/// A question that is under way.
#[derive(Clone)]
struct Question {
    put_at: Instant,
    answer: Shared<BoxFuture<'static, Result<Option<Grant>>>>,
}

#[derive(Default)]
struct State {
    /// What opened something, and when that was asked.
    good: HashMap<Of, (Open, Instant)>,
    asked: HashMap<Of, Question>,
    /// How often all was forgotten: what was asked before that is not believed.
    forgotten: u64,
}

impl State {
    /// What is believed of a secret that was asked about within `limit`.
    fn within(&self, of: &Of, limit: Duration) -> Option<Grant> {
        let (open, at) = self.good.get(of)?;
        let lasts = open.ends_at.is_none_or(|end| end > Utc::now());
        (lasts && at.elapsed() < limit).then(|| open.grant.clone())
    }
}

/// Ends a question, however it went: the next one asks anew.
struct Over<'a> {
    parts: &'a Parts,
    of: Of,
    put_at: Instant,
}

impl Drop for Over<'_> {
    fn drop(&mut self) {
        let asked = &mut self.parts.state.lock().asked;
        if asked.get(&self.of).is_some_and(|question| question.put_at == self.put_at) {
            asked.remove(&self.of);
        }
    }
}

/// All of them. Clones share them.
#[derive(Clone)]
pub struct Believed(Arc<Parts>);

struct Parts {
    ask: Ask,
    silence: Silence,
    /// How long a good secret is believed while the database does not answer.
    in_silence: Duration,
    state: Mutex<State>,
}

impl Believed {
    pub fn new(ask: Ask, silence: Silence, in_silence: Duration) -> Believed {
        Believed(Arc::new(Parts { ask, silence, in_silence, state: Mutex::default() }))
    }

    /// What a secret opens, if anything.
    pub async fn grant(&self, opens: Opens, secret: &str) -> Result<Option<Grant>> {
        let of = (opens, Sha256::digest(secret.as_bytes()).into());
        let answer = {
            let mut state = self.0.state.lock();
            // While the database is known to be silent, nobody waits for it to say so again.
            let limit = if self.0.silence.is_on() { self.0.in_silence } else { FRESH };
            if let Some(grant) = state.within(&of, limit) {
                return Ok(Some(grant));
            }
            let question = self.question(&mut state, of);
            let put_after = |(_, at): &(Open, Instant)| question.put_at.duration_since(*at);
            if state.good.get(&of).map(put_after).is_some_and(|age| age < BELIEVED)
                && let Some(grant) = state.within(&of, LATE)
            {
                return Ok(Some(grant));
            }
            question.answer
        };
        answer.await
    }

    /// The question about a secret: the one that is under way, or a new one. It goes on when nobody waits for it.
    fn question(&self, state: &mut State, of: Of) -> Question {
        if let Some(question) = state.asked.get(&of) {
            return question.clone();
        }
        let (put_at, forgotten) = (Instant::now(), state.forgotten);
        let asking = tokio::spawn(self.clone().ask(of, put_at, forgotten));
        let ended = |_| Problem::new(Kind::Internal, "looking up the key stopped");
        let answer = asking.map(move |answer| answer.map_err(ended)?).boxed().shared();
        let question = Question { put_at, answer };
        state.asked.insert(of, question.clone());
        question
    }

    async fn ask(self, of: Of, put_at: Instant, forgotten: u64) -> Result<Option<Grant>> {
        let _over = Over { parts: &self.0, of, put_at };
        let answer = (self.0.ask)(of.0, of.1).await;
        let mut state = self.0.state.lock();
        match answer {
            Ok(open) => {
                let in_silence = self.0.in_silence;
                state.good.retain(|other, (_, at)| *other != of && at.elapsed() < in_silence);
                let Some(open) = open else { return Ok(None) };
                let grant = open.grant.clone();
                if state.forgotten == forgotten {
                    state.good.insert(of, (open, put_at));
                }
                Ok(Some(grant))
            }
            Err(Unsaid::Catalog(e)) => {
                if let CatalogError::Unavailable(_) = &e {
                    self.0.silence.set(true);
                    if let Some(grant) = state.within(&of, self.0.in_silence) {
                        return Ok(Some(grant));
                    }
                }
                Err(e.into())
            }
            Err(Unsaid::Problem(problem)) => Err(problem),
        }
    }

    /// Believes nothing any more: a secret that was removed here is refused at once.
    pub fn forget(&self) {
        let mut state = self.0.state.lock();
        state.good.clear();
        state.forgotten += 1;
        // Who comes now does not take an answer that was asked for before.
        state.asked.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
    use tokio::time::{advance, sleep};

    const KEY: &str = "zk_1";

    /// A database in which `KEY` is good until it is removed, and takes `slow_ms` to say so.
    #[derive(Clone, Default)]
    struct Database {
        asked: Arc<AtomicUsize>,
        is_removed: Arc<AtomicBool>,
        is_gone: Arc<AtomicBool>,
        slow_ms: Arc<AtomicU64>,
    }

    impl Database {
        fn believed(&self) -> Believed {
            let this = self.clone();
            let ask = move |opens, _| {
                let this = this.clone();
                async move {
                    this.asked.fetch_add(1, Ordering::Relaxed);
                    let is_good = opens == Opens::Key && !this.is_removed.load(Ordering::Relaxed);
                    sleep(Duration::from_millis(this.slow_ms.load(Ordering::Relaxed))).await;
                    if this.is_gone.load(Ordering::Relaxed) {
                        return Err(Unsaid::Catalog(CatalogError::Unavailable("gone".into())));
                    }
                    Ok(is_good.then(|| Open { grant: Grant::nothing(), ends_at: None }))
                }
                .boxed()
            };
            Believed::new(Box::new(ask), Silence::default(), Duration::from_secs(3600))
        }

        fn n_asked(&self) -> usize {
            self.asked.load(Ordering::Relaxed)
        }
    }

    async fn opens(believed: &Believed) -> bool {
        believed.grant(Opens::Key, KEY).await.unwrap().is_some()
    }

    #[tokio::test(start_paused = true)]
    async fn many_requests_at_once_ask_once() {
        let database = Database { slow_ms: Arc::new(50.into()), ..Database::default() };
        let believed = database.believed();
        for round in 1..=3 {
            let all = futures::future::join_all((0..100).map(|_| opens(&believed))).await;
            assert!(all.iter().all(|opened| *opened));
            assert_eq!(database.n_asked(), round);
            advance(BELIEVED).await;
        }
    }

    #[tokio::test(start_paused = true)]
    async fn a_secret_in_use_never_waits_and_dies_in_time_when_it_is_removed() {
        let database = Database { slow_ms: Arc::new(50.into()), ..Database::default() };
        let believed = database.believed();
        assert!(opens(&believed).await);
        let now = || opens(&believed).now_or_never();
        for _ in 0..100 {
            advance(Duration::from_millis(100)).await;
            tokio::task::yield_now().await;
            assert_eq!(now(), Some(true));
        }
        assert!((9..=11).contains(&database.n_asked()), "{} in 10 s", database.n_asked());
        database.is_removed.store(true, Ordering::Relaxed);
        // A question that is under way is answered first.
        sleep(BELIEVED).await;
        assert_ne!(now(), Some(true), "its last answer is too old");
        assert!(!opens(&believed).await);
    }

    #[tokio::test(start_paused = true)]
    async fn a_late_answer_holds_nobody_up_for_a_while() {
        let database = Database::default();
        let believed = database.believed();
        assert!(opens(&believed).await);
        database.slow_ms.store(60_000, Ordering::Relaxed);
        let now_after = async |ms| {
            advance(Duration::from_millis(ms)).await;
            opens(&believed).now_or_never()
        };
        assert_eq!(now_after(1500).await, Some(true), "asked in time");
        assert_eq!(now_after(5000).await, Some(true), "the answer is late");
        assert_eq!(now_after(5000).await, None, "too late");
    }

    #[tokio::test(start_paused = true)]
    async fn what_was_asked_before_all_was_forgotten_is_not_believed() {
        let database = Database { slow_ms: Arc::new(50.into()), ..Database::default() };
        let believed = database.believed();
        let mut early = Box::pin(opens(&believed));
        assert!(futures::poll!(&mut early).is_pending());
        // So that the question is put.
        tokio::task::yield_now().await;
        database.is_removed.store(true, Ordering::Relaxed);
        believed.forget();
        assert!(!opens(&believed).await, "removed here, so refused at once");
        assert!(early.await, "it came before");
        assert!(!opens(&believed).await);
        assert_eq!(database.n_asked(), 3);
    }

    #[tokio::test(start_paused = true)]
    async fn a_session_is_no_key_and_what_was_good_goes_on_in_silence() {
        let database = Database::default();
        let believed = database.believed();
        assert!(opens(&believed).await);
        assert!(believed.grant(Opens::Session, KEY).await.unwrap().is_none());
        database.is_gone.store(true, Ordering::Relaxed);
        advance(Duration::from_secs(600)).await;
        assert!(opens(&believed).await);
        assert!(believed.grant(Opens::Key, "zk_stranger").await.is_err());
        advance(Duration::from_secs(3600)).await;
        assert!(believed.grant(Opens::Key, KEY).await.is_err());
    }
}
