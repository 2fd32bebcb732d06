//! A look into files before anything is created.

use crate::samples::*;
use serde_json::json;
use zesty_files::*;

#[test]
fn a_file_is_inspected_before_anything_is_created() {
    let folder = tempfile::tempdir().unwrap();
    let csv = "doc id,id,year,depth,logged,at,dry,tags,embedding,code,when,signed\n".to_owned()
        + &(0..40).map(|i| format!(
            "x,{i},{},{},1931-10-0{},1931-10-04T18:30:00Z,true,\"[\"\"a\"\"]\",\"[0.5, 1, {i}]\",007,{},+931-10-04\n",
            1900 + i % 7, if i == 3 { String::new() } else { format!("{i}.5") }, 1 + i % 9,
            if i % 2 == 0 { "12" } else { "noon" })).collect::<String>();
    let found = inspect(&named(folder.path(), "a.csv", &csv), Limits::default()).unwrap();
    assert_eq!((found.key.as_deref(), found.n_sampled, found.n_rows), (Some("id"), 40, Some(40)));
    let types: Vec<(&str, &str)> =
        found.fields.iter().map(|f| (f.name.as_str(), f.r#type.as_str())).collect();
    assert_eq!(
        types,
        [
            ("doc_id", "string"),
            ("year", "integer"),
            ("depth", "number"),
            ("logged", "date"),
            ("at", "timestamp"),
            ("dry", "boolean"),
            ("tags", "array of strings"),
            ("code", "string"),
            ("when", "string"),
            ("signed", "string")
        ]
    );
    assert_eq!((found.fields[2].n_missing, found.fields[1].n_distinct), (1, 7));
    let when = &found.fields[8];
    assert_eq!(when.remark.as_deref(), Some("20 of 40 look like strings; line 2 is 12"));
    let counts: Vec<(&str, u64)> = when.choices.iter().map(|c| (c.r#type.as_str(), c.n_rejected)).collect();
    assert_eq!(counts, [("string", 0), ("integer", 20)], "cells of CSV can always be text");
    assert_eq!((found.vectors[0].name.as_str(), found.vectors[0].dimensions), ("embedding", 3));
    assert_eq!(found.mapping().rename["doc id"], "doc_id");

    let nested = "{\"key\": \"a\", \"place\": {\"lat\": 1.5, \"name\": \"x\"}, \"v\": [0.1, 0.2]}\n\
                  {\"key\": \"b\", \"place\": {\"lat\": 2}, \"v\": [0.1, 0.2, 0.3]}\nbroken\n";
    let found = inspect(&named(folder.path(), "a.jsonl", nested), Limits::default()).unwrap();
    assert_eq!(found.schema()["properties"]["place"]["properties"]["lat"], json!({"type": "number"}));
    assert!(found.vectors[0].remark.as_ref().unwrap().contains("2 and 3"));
    assert!(found.troubles[0].contains("line 3 is not JSON"));

    for name in ["a.parquet", "a.arrows"] {
        let found = inspect(
            &named(folder.path(), name, written(Layout::of(name), &sample(30), None)),
            Limits::default(),
        )
        .unwrap();
        assert_eq!(found.key.as_deref(), Some("key"), "{name}");
        let kind = |n: &str| found.fields.iter().find(|f| f.name == n).map(|f| f.r#type.as_str());
        assert_eq!(
            (kind("logged"), kind("at"), kind("codes")),
            (Some("date"), Some("timestamp"), Some("array of integers"))
        );
        assert_eq!(
            (found.vectors[0].dimensions, found.vectors[0].element.as_str(), found.vectors[0].n_missing),
            (3, "f32", 1)
        );
    }
    let found =
        inspect(&named(folder.path(), "My Notes.npy", npy_f32(7, 4, |_, _| 1.0)), Limits::default()).unwrap();
    assert_eq!(
        (found.n_rows, found.vectors[0].name.as_str(), found.vectors[0].dimensions),
        (Some(7), "my_notes", 4)
    );
}

#[test]
fn a_mixed_column_says_what_is_odd_and_a_chosen_type_is_counted_over_the_whole_file() {
    let folder = tempfile::tempdir().unwrap();
    let mut text =
        "key,added,n\na,2024-01-01,1\nb,2024-02-01,2\nc,not a date,3.0\nd,2024-03-01,x\ne,2024-04-01,\n"
            .to_owned();
    let file = named(folder.path(), "a.csv", &text);
    let found = inspect(&file, Limits::default()).unwrap();
    let added = &found.fields[0];
    assert_eq!(added.r#type, "string");
    assert_eq!(added.remark.as_deref(), Some("4 of 5 look like dates; line 4 is \"not a date\""));
    assert_eq!((added.choices[1].r#type.as_str(), added.choices[1].n_rejected), ("date", 1));
    assert_eq!(added.choices[1].first, Some((4, json!("not a date"))));

    // Beyond what is looked at by default.
    (0..3000).for_each(|i| text += &format!("f{i},{},7\n", if i == 2500 { "later" } else { "2024-05-01" }));
    let file = named(folder.path(), "b.csv", &text);
    let types = [("added".to_owned(), "date".to_owned()), ("n".to_owned(), "integer".to_owned())].into();
    let found = inspect_as(&file, Limits::default(), &types).unwrap();
    assert_eq!((found.fields[0].r#type.as_str(), found.fields[0].choices[0].n_rejected), ("date", 2));
    assert_eq!(found.fields[1].choices[0].n_rejected, 1, "3.0 is an integer, x is none");
    assert!(
        found.fields[0].remark.as_ref().unwrap().contains("2 of the file's rows would be rejected, line 4")
    );
    assert_eq!(found.schema()["properties"]["added"]["format"], "date");
    let wrong = |source: &str, kind: &str| {
        let types = [(source.to_owned(), kind.to_owned())].into();
        inspect_as(&file, Limits::default(), &types).unwrap_err().why
    };
    assert!(
        wrong("nobody", "date").contains("its fields are added, n")
            && wrong("n", "day").contains("is not a type")
    );
}

#[test]
fn names_with_thousands_of_dots_or_columns_are_left_out_with_a_reason_and_end_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let deep = vec!["a"; 2001].join(".");
    let line = format!("{{\"key\": \"x\", \"{deep}\": 1, \"n\": 2}}\n");
    let file = named(folder.path(), "a.jsonl", &line);
    let found = inspect(&file, Limits::default()).unwrap();
    assert_eq!(found.fields.iter().map(|f| f.name.as_str()).collect::<Vec<_>>(), ["n"]);
    assert!(found.troubles[0].contains("2001 parts between dots; 9 is the most"), "{:?}", found.troubles);
    let rows = all(&plan(Some(file))).unwrap();
    let bad = rows[0].record.as_ref().unwrap_err();
    assert!(bad.reason.contains("2001 parts between dots"), "{}", bad.reason);

    let file = named(folder.path(), "a.csv", format!("key,{deep}\nx,1\n"));
    assert!(inspect(&file, Limits::default()).unwrap_err().why.contains("2001 parts"));
    assert!(all(&plan(Some(file))).unwrap_err().why.contains("2001 parts"));
    let many = (0..5000).map(|i| format!("c{i}")).collect::<Vec<_>>().join(",");
    let file = named(folder.path(), "b.csv", format!("key,{many}\n"));
    assert!(inspect(&file, Limits::default()).unwrap_err().why.contains("4096 is the most"));
    // A Parquet file that says of itself that it has a hundred thousand groups in groups.
    let group = [0x48, 1, b'a', 0x15, 2, 0];
    let mut description = vec![0x15, 2, 0x19, 0xfc, 0xa0, 0x8d, 0x06];
    (0..100_000).for_each(|_| description.extend(group));
    description.push(0);
    let length = (description.len() as u32).to_le_bytes();
    let parquet = [&b"PAR1"[..], &description, &length, b"PAR1"].concat();
    let why = inspect(&named(folder.path(), "deep.parquet", parquet), Limits::default()).unwrap_err().why;
    assert!(why.contains("levels deep; 40 is the most"), "{why}");
    // Nested as deep as a parser lets it, and deeper.
    for depth in [100, 100_000] {
        let nested = format!("{}1{}", "{\"a\":".repeat(depth), "}".repeat(depth));
        let file = named(folder.path(), "c.jsonl", format!("{{\"key\":\"x\",\"o\":{nested}}}\n"));
        assert!(inspect(&file, Limits::default()).unwrap().fields.is_empty());
    }
}

#[test]
fn an_object_that_is_null_in_one_row_is_no_field() {
    let folder = tempfile::tempdir().unwrap();
    let text = "{\"key\":\"a\",\"place\":null}\n{\"key\":\"b\",\"place\":{\"lat\":1.5}}\n";
    let found = inspect(&named(folder.path(), "a.jsonl", text), Limits::default()).unwrap();
    assert_eq!(found.fields.iter().map(|f| f.name.as_str()).collect::<Vec<_>>(), ["place.lat"]);
    let mixed = format!("{text}{{\"key\":\"c\",\"place\":7}}\n");
    let found = inspect(&named(folder.path(), "b.jsonl", mixed), Limits::default()).unwrap();
    assert!(
        found.troubles[0].contains("\"place\" is an object in some rows, and 7 in line 3"),
        "{:?}",
        found.troubles
    );
}

#[test]
fn files_that_are_not_what_their_name_says_are_told_what_they_are() {
    let folder = tempfile::tempdir().unwrap();
    let refused = |name: &str, bytes: &[u8]| {
        let file = named(folder.path(), name, bytes);
        let (looked, loaded) = (inspect(&file, Limits::default()), all(&plan(Some(file))));
        assert_eq!(looked.as_ref().unwrap_err().why, loaded.unwrap_err().why, "{name}");
        looked.unwrap_err().why
    };
    assert!(refused("a.jsonl", b" [\n{\"key\": 1}]").contains("is a JSON array"));
    assert!(refused("b.csv", b"").contains("is empty"));
    assert!(refused("c.csv", b"key;note\n1;x\n").contains("semicolons"));
    let utf16: Vec<u8> = "key,note\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
    assert!(refused("d.csv", &utf16).contains("UTF-16"));
    assert!(refused("e.csv", &[&[0xff, 0xfe], &utf16[..]].concat()).contains("UTF-16"));
    // A byte order mark is passed over.
    for (name, text) in
        [("f.jsonl", "\u{feff}{\"key\":\"a\",\"year\":1}\n"), ("g.csv", "\u{feff}key,year\na,1\n")]
    {
        let rows = all(&plan(Some(named(folder.path(), name, text)))).unwrap();
        assert_eq!(rows[0].record.as_ref().unwrap().key, "a", "{name}");
    }
    let twice =
        all(&plan(Some(named(folder.path(), "h.jsonl", "{\"key\":\"a\",\"year\":1,\"year\":2}\n")))).unwrap();
    assert!(twice[0].record.as_ref().unwrap_err().reason.contains("\"year\" appears twice"));
}
