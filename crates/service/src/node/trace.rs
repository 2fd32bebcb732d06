//! W3C trace context: the trace that a request belongs to, from its `traceparent` to the calls that it makes.

use crate::node::random::random_hex;

tokio::task_local! {
    static TRACE: Trace;
}

/// What a request said of its trace.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trace {
    /// 32 hexadecimal digits.
    pub id: String,
    /// 2 hexadecimal digits: whether it is recorded.
    flags: String,
}

fn is_hex(text: &str, digits: usize) -> bool {
    text.len() == digits && text.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f'))
}

impl Trace {
    /// Reads a `traceparent`: `00-TRACE-PARENT-FLAGS`. One that is malformed is ignored, as the standard says.
    pub fn read(header: &str) -> Option<Trace> {
        let mut parts = header.split('-');
        let (version, id, parent, flags) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
        let whole = version != "00" || parts.next().is_none();
        let zeros = |text: &str| text.bytes().all(|b| b == b'0');
        let good = is_hex(version, 2)
            && version != "ff"
            && whole
            && is_hex(id, 32)
            && !zeros(id)
            && is_hex(parent, 16)
            && !zeros(parent)
            && is_hex(flags, 2);
        good.then(|| Trace { id: id.to_owned(), flags: flags.to_owned() })
    }

    /// Runs a request inside its trace.
    pub async fn around<T>(trace: Option<Trace>, work: impl Future<Output = T>) -> T {
        match trace {
            Some(trace) => TRACE.scope(trace, work).await,
            None => work.await,
        }
    }
}

/// The `traceparent` of a call that this request makes.
pub fn next() -> Option<String> {
    TRACE.try_with(|trace| format!("00-{}-{}-{}", trace.id, random_hex(8), trace.flags)).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_trace_goes_on_into_the_calls_of_its_request() {
        let id = "4bf92f3577b34da6a3ce929d0e0e4736";
        let trace = Trace::read(&format!("00-{id}-00f067aa0ba902b7-01"));
        let next = Trace::around(trace, async { next() }).await.unwrap();
        assert!(
            next.starts_with(&format!("00-{id}-"))
                && next.ends_with("-01")
                && !next.contains("00f067aa0ba902b7")
        );
        assert_eq!(super::next(), None);
        let zeros = "0".repeat(32);
        for wrong in [
            "",
            "00",
            &format!("ff-{id}-00f067aa0ba902b7-01"),
            &format!("00-{zeros}-00f067aa0ba902b7-01"),
            &format!("00-{id}-0000000000000000-01"),
            &format!("00-{}-00f067aa0ba902b7-01", id.to_uppercase()),
            &format!("00-{id}-00f067aa0ba902b7-01-more"),
        ] {
            assert_eq!(Trace::read(wrong), None, "{wrong}");
        }
    }
}
