//! Long lists of numbers are most of what a JSON text with vectors is. They are lifted out of it in one pass, each number read
//! straight to a 32-bit float, and `[]` is left in their places; so the JSON reader has little left to read.

use memchr::memchr2;
use std::borrow::Cow;
use std::cell::RefCell;

/// Shorter lists are as quickly read in their places.
const LONG: usize = 32;
/// Numbers that room is made for at once.
const USUAL: usize = 4096;

/// A vector that was lifted, by where its `[]` lies in memory. Who asks for it takes it.
type Places = Vec<(usize, Option<Vec<f32>>)>;

thread_local! {
    /// Those of the text that this thread reads.
    static LIFTED: RefCell<Option<Places>> = const { RefCell::new(None) };
}

/// Reads a text with `read`, to which [`taken`] gives the vectors. `None`: it failed, or a list was lifted that `read` does not
/// take for a vector. Then a plain reader of the text says what it is, or what is wrong, and where.
pub fn read_lifted<T, E>(text: &str, read: impl FnOnce(&str) -> Result<T, E>) -> Option<T> {
    /// Whatever happens, another text finds none of these.
    struct Scope(Option<Places>);
    impl Drop for Scope {
        fn drop(&mut self) {
            LIFTED.set(self.0.take());
        }
    }
    let Lifted { left, vectors } = lift(text)?;
    let start = left.as_ptr().addr();
    let places = vectors.into_iter().map(|(at, vector)| (start + at, Some(vector))).collect();
    let _scope = Scope(LIFTED.replace(Some(places)));
    let read = read(&left).ok()?;
    let are_taken = LIFTED.with_borrow(|places| places.iter().flatten().all(|(_, vector)| vector.is_none()));
    are_taken.then_some(read)
}

/// Whether a text is read from which vectors were lifted.
pub fn is_reading() -> bool {
    LIFTED.with_borrow(Option::is_some)
}

/// The vector that `[]` stands for: an empty one, if none was lifted from there. `None`: it was taken before.
pub fn taken(raw: &str) -> Option<Vec<f32>> {
    LIFTED.with_borrow_mut(|places| {
        let Some(places) = places else { return Some(Vec::new()) };
        match places.binary_search_by_key(&raw.as_ptr().addr(), |(at, _)| *at) {
            Ok(at) => places[at].1.take(),
            Err(_) => Some(Vec::new()),
        }
    })
}

/// A text without its long lists of numbers, and these, by the places of their `[]` in it.
struct Lifted<'a> {
    left: Cow<'a, str>,
    vectors: Vec<(usize, Vec<f32>)>,
}

fn lift(text: &str) -> Option<Lifted<'_>> {
    let bytes = text.as_bytes();
    let (mut left, mut vectors) = (String::new(), Vec::new());
    let (mut copied, mut at, mut usual) = (0, 0, LONG);
    while let Some(found) = memchr2(b'"', b'[', &bytes[at..]) {
        at += found;
        if bytes[at] == b'"' {
            at = end_of_string(bytes, at + 1)?;
            continue;
        }
        match leading_vector(&bytes[at..], usual) {
            Some((vector, n)) if vector.len() >= LONG => {
                left.push_str(&text[copied..at]);
                usual = vector.len().min(USUAL);
                vectors.push((left.len(), vector));
                left.push_str("[]");
                at += n;
                copied = at;
            }
            _ => at += 1,
        }
    }
    if vectors.is_empty() {
        return Some(Lifted { left: Cow::Borrowed(text), vectors });
    }
    left.push_str(&text[copied..]);
    Some(Lifted { left: Cow::Owned(left), vectors })
}

/// What comes after a string whose first byte is at `at`.
fn end_of_string(bytes: &[u8], mut at: usize) -> Option<usize> {
    loop {
        at += memchr2(b'"', b'\\', bytes.get(at..)?)?;
        if bytes[at] == b'"' {
            return Some(at + 1);
        }
        at += 2;
    }
}

/// Reads the list of numbers that a text begins with, if it looks as usual, each number straight to the nearest f32; `usual`
/// numbers are expected. Returns it with how many bytes it takes.
pub fn leading_vector(text: &[u8], usual: usize) -> Option<(Vec<f32>, usize)> {
    let mut rest = text.strip_prefix(b"[")?.trim_ascii_start();
    if rest.first() == Some(&b']') {
        return Some((Vec::new(), text.len() - rest.len() + 1));
    }
    let mut vector = Vec::new();
    loop {
        let digits = rest.strip_prefix(b"-").unwrap_or(rest);
        // What else the package takes for a number is not JSON.
        match digits {
            [b'0', b'0'..=b'9', ..] => return None,
            [b'0'..=b'9', ..] => {}
            _ => return None,
        }
        let (number, n) = fast_float2::parse_partial::<f32, _>(rest).ok()?;
        let (written, after) = rest.split_at(n);
        // Digits end it, and follow its point, which mostly is its second sign.
        let is_json = written.last().is_some_and(u8::is_ascii_digit)
            && match digits {
                [_, b'.', b'0'..=b'9', ..] => true,
                _ => {
                    written.iter().position(|b| *b == b'.').is_none_or(|at| written[at + 1].is_ascii_digit())
                }
            };
        if !is_json {
            return None;
        }
        if vector.is_empty() {
            vector.reserve(usual);
        }
        vector.push(number);
        match after.trim_ascii_start() {
            [b',', more @ ..] => rest = more.trim_ascii_start(),
            [b']', more @ ..] => return Some((vector, text.len() - more.len())),
            _ => return None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(n: usize) -> String {
        format!("[{}]", (0..n).map(|i| format!("{i}.5")).collect::<Vec<_>>().join(", "))
    }

    #[test]
    fn long_lists_of_numbers_are_lifted_wherever_they_stand_and_nothing_else_is() {
        let (long, short) = (list(LONG), list(LONG - 1));
        let text = format!(r#"{{"a\"[1": {long}, "b": "\\", "c": [{long}, {short}], "d": "{long}"}}"#);
        let Lifted { left, vectors } = lift(&text).unwrap();
        assert_eq!(left, format!(r#"{{"a\"[1": [], "b": "\\", "c": [[], {short}], "d": "{long}"}}"#));
        assert_eq!(vectors.len(), 2);
        assert!(
            vectors.iter().all(|(at, v)| left[*at..].starts_with("[]") && v.len() == LONG && v[1] == 1.5)
        );
        assert!(lift(&format!("{{\"open: {long}")).is_none());
    }

    #[test]
    fn what_is_lifted_goes_to_whoever_reads_its_place_and_else_nothing_is_read() {
        let text = format!(r#"[[], {}]"#, list(40));
        let read = |short: &str| {
            let all: Vec<&serde_json::value::RawValue> = serde_json::from_str(short).unwrap();
            assert!(is_reading() && taken(all[0].get()).unwrap().is_empty());
            Ok::<_, ()>([taken(all[1].get()), taken(all[1].get())])
        };
        let [first, again] = read_lifted(&text, read).unwrap();
        assert!(first.unwrap().len() == 40 && again.is_none(), "nobody takes it for an empty one");
        assert!(read_lifted(&text, |_| Ok::<_, ()>(())).is_none(), "a list that nobody took");
        assert!(read_lifted(&text, |_| Err::<(), _>(())).is_none());
        assert!(!is_reading() && taken("[]").unwrap().is_empty());
    }

    #[test]
    fn lists_in_lists_are_passed_in_one_go() {
        let deep = "[".repeat(1 << 20);
        assert_eq!(lift(&deep).unwrap().left, deep);
    }
}
