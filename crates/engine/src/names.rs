//! Words for messages: the nearest known name to a mistyped one, numbers that can be read.

/// The candidate most like `given`, when it is like enough to be a plausible slip.
pub fn nearest<'a>(given: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = given.to_lowercase();
    known
        .into_iter()
        .map(|name| (strsim::jaro_winkler(&lower, &name.to_lowercase()), name))
        .filter(|(likeness, _)| *likeness > 0.75)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, name)| name)
}

/// `; did you mean "x"?` or nothing.
pub fn did_you_mean<'a>(given: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest(given, known).map(|name| format!("; did you mean \"{name}\"?")).unwrap_or_default()
}

/// `12,345`
pub fn grouped(value: usize) -> String {
    let digits = value.to_string();
    let mut text = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            text.push(',');
        }
        text.push(c);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_finds_its_word_and_nonsense_finds_nothing() {
        let known = ["station", "keeper", "severity"];
        assert_eq!(nearest("Statoin", known), Some("station"));
        assert_eq!(nearest("severty", known), Some("severity"));
        assert_eq!(nearest("zq", known), None);
    }
}
