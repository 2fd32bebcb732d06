//! Templates: the text that an encoder reads, made from fields.

use serde_json::Value;

/// A text for the encoder, from a template such as `{station}: {note}`. Missing fields leave
/// nothing; `None` when no field had a value.
pub fn render(template: &str, body: &serde_json::Map<String, Value>) -> Option<String> {
    let mut out = String::new();
    let mut any = false;
    let mut rest = template;
    while let Some((before, after)) = rest.split_once('{') {
        let Some((name, after)) = after.split_once('}') else { break };
        out += before;
        let mut steps = name.split('.');
        let value = steps.next().and_then(|first| body.get(first));
        match steps.try_fold(value.unwrap_or(&Value::Null), |value, step| value.get(step)) {
            Some(Value::String(s)) => {
                out += s;
                any |= !s.trim().is_empty();
            }
            None | Some(Value::Null) => {}
            Some(other) => {
                out += &other.to_string();
                any = true;
            }
        }
        rest = after;
    }
    out += rest;
    any.then_some(out)
}

/// The field names in a template, or what is wrong with it.
pub fn template_fields(template: &str) -> Result<Vec<&str>, String> {
    let mut fields = Vec::new();
    let mut rest = template;
    while let Some((_, after)) = rest.split_once('{') {
        let (name, after) = after.split_once('}').ok_or("a \"{\" is not closed")?;
        fields.push(name);
        rest = after;
    }
    if fields.is_empty() {
        return Err("it names no field; write a field in braces, such as {note}".into());
    }
    Ok(fields)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn templates_are_rendered_from_fields() {
        let body =
            json!({"station": "Ness", "note": "fog", "year": 1931, "gone": null, "place": {"name": "Bay"}});
        let body = body.as_object().unwrap();
        assert_eq!(render("{station} ({year}): {note}", body).unwrap(), "Ness (1931): fog");
        assert_eq!(render("{place.name}, {place.lat}{gone.x}", body).unwrap(), "Bay, ");
        assert_eq!(render("{gone}{absent}", body), None);
        assert_eq!(template_fields("{station}: {note}").unwrap(), ["station", "note"]);
        assert!(template_fields("{note").is_err() && template_fields("note").is_err());
    }
}
