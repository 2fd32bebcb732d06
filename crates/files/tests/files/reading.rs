//! Files of every format, honest and broken: what is read is what was written, and what is wrong
//! is said with its file, its place and a remedy.

use crate::samples::*;
use proptest::prelude::*;
use serde_json::{Value, json};
use std::io::Write;
use zesty_files::*;

#[test]
fn flat_and_full_lines_become_records() {
    let folder = tempfile::tempdir().unwrap();
    let text = concat!(
        r#"{"key": 7, "year": 1931, "place": {"lat": 5.5}, "meaning": [1, 2.5]}"#,
        "\n\n",
        r#"{"key": "a", "fields": {"year": 1}, "vectors": {"meaning": null}}"#,
        "\r\n",
        r#"{"year": 1}"#,
        "\n",
        "[]\n",
        "{\n",
        r#"{"key": null}"#,
        "\n",
        r#"{"key": "n", "meaning": [NaN]}"#,
        "\n",
        r#"{"key": "n", "meaning": ["x"]}"#,
        "\n",
        r#"{"key": "b", "year": 2, "rejected": {"line": 3, "reason": "was wrong"}}"#,
    );
    let rows = all(&plan(Some(named(folder.path(), "a.jsonl", text)))).unwrap();
    let first = rows[0].record.as_ref().unwrap();
    assert_eq!((first.key.as_str(), rows[0].n), ("7", 1));
    assert_eq!(Value::Object(first.fields.clone()), json!({"year": 1931, "place": {"lat": 5.5}}));
    assert_eq!(first.vectors["meaning"], Some(vec![1.0, 2.5]));
    assert_eq!(rows[1].record.as_ref().unwrap().vectors["meaning"], None);
    assert_eq!(rows[1].n, 3, "blank lines count");
    let reason = |i: usize| rows[i].record.as_ref().unwrap_err().reason.clone();
    assert!(reason(2).contains("has no \"key\""));
    assert!(reason(3).contains("is not JSON") && reason(4).contains("is not JSON"));
    assert!(reason(5).contains("its key is null"));
    assert!(reason(6).contains("finite number"), "{}", reason(6));
    assert!(reason(7).contains("neither an array of finite numbers nor base64"));
    assert_eq!(rows[7].record.as_ref().unwrap_err().text, r#"{"key": "n", "meaning": ["x"]}"#);
    assert_eq!(rows[8].record.as_ref().unwrap().fields.len(), 1, "a mended reject loads again");
}

/// They are read in another way than short ones.
#[test]
fn long_lists_are_vectors_in_vector_columns_and_else_what_they_say() {
    let folder = tempfile::tempdir().unwrap();
    let numbers: Vec<f64> = (0..40).map(|i| f64::from(i) + 0.1).collect();
    let list = json!(numbers);
    let wrong = list.to_string().replace("7.1", "NaN");
    let text = [
        json!({"key": "flat", "meaning": list, "year": 1}).to_string(),
        json!({"key": "full", "fields": {"year": 2}, "vectors": {"meaning": list}}).to_string(),
        json!({"key": "both", "fields": {"tags": [list, "x"]}, "vectors": {"meaning": list}}).to_string(),
        format!(r#"{{"key": "wrong", "meaning": {wrong}}}"#),
        format!(r#"{{"key": "twice", "meaning": {list}, "meaning": {list}}}"#),
    ];
    let rows = all(&plan(Some(named(folder.path(), "a.jsonl", text.join("\n"))))).unwrap();
    let vector: Vec<f32> = numbers.iter().map(|x| *x as f32).collect();
    for row in &rows[..3] {
        assert_eq!(row.record.as_ref().unwrap().vectors["meaning"].as_ref(), Some(&vector));
    }
    assert_eq!(rows[1].record.as_ref().unwrap().fields["year"], 2);
    assert_eq!(rows[2].record.as_ref().unwrap().fields["tags"], json!([list, "x"]), "to the last digit");
    let reason = |i: usize| &rows[i].record.as_ref().unwrap_err().reason;
    assert!(reason(3).contains("at column ") && reason(3).contains("finite number"), "{}", reason(3));
    assert!(reason(4).contains("\"meaning\" appears twice"), "{}", reason(4));
}

#[test]
fn cells_become_values_by_the_types_of_the_fields() {
    let folder = tempfile::tempdir().unwrap();
    let text = "\u{feff}key,year,note,tags,dry,place.lat,meaning\r\n\
                7,1931,\"a \"\"b\"\",\nc\",\"[\"\"fog\"\"]\",TRUE,1.5,\"[1, 2.5]\"\r\n8,,12,,no,,\r\nshort,1\r\n";
    let rows = all(&plan(Some(named(folder.path(), "a.csv", text)))).unwrap();
    let first = rows[0].record.as_ref().unwrap();
    assert_eq!(
        Value::Object(first.fields.clone()),
        json!({"year": 1931, "note": "a \"b\",\nc", "tags": ["fog"], "dry": true, "place": {"lat": 1.5}})
    );
    assert_eq!(first.vectors["meaning"], Some(vec![1.0, 2.5]));
    // Digits in a text field stay text; what is no boolean goes on as it is, to be refused.
    let second = rows[1].record.as_ref().unwrap();
    assert_eq!((rows[1].n, Value::Object(second.fields.clone())), (4, json!({"note": "12", "dry": "no"})));
    assert_eq!(rows[2].n, 5);
    assert!(rows[2].record.as_ref().unwrap_err().reason.contains("has 2 cells, and there are 7 columns"));
    let refused = |text: &str| refusal(&plan(Some(named(folder.path(), "b.csv", text))));
    assert!(refused("id,year\n1,2\n").contains("no column is called key; the columns are id, year"));
    assert!(refused("key,year,year\n1,2,3\n").contains("two columns are called \"year\""));
}

#[test]
fn columns_are_renamed_and_chosen_in_every_format() {
    let folder = tempfile::tempdir().unwrap();
    let mut with = plan(None);
    with.mapping = Mapping {
        key: Some("id".into()),
        rename: [("jahr".to_owned(), "year".to_owned()), ("v".to_owned(), "meaning".to_owned())].into(),
        only: Some(vec!["id".into(), "jahr".into(), "v".into()]),
        keyless: false,
    };
    for (name, text) in [
        ("a.jsonl", "{\"id\": \"x\", \"jahr\": 3, \"v\": [1, 2], \"junk\": {}}\n"),
        ("a.csv", "id,jahr,v,junk\nx,3,\"[1, 2]\",z\n"),
    ] {
        with.records = Some(named(folder.path(), name, text));
        let got = records(&with);
        assert_eq!((got[0].key.as_str(), Value::Object(got[0].fields.clone())), ("x", json!({"year": 3})));
        assert_eq!(got[0].vectors["meaning"], Some(vec![1.0, 2.0]), "{name}");
    }
    with.mapping.rename.insert("jhar".into(), "year".into());
    assert!(refusal(&with).contains("has no column \"jhar\"; its columns are id, jahr, v, junk"));
}

#[test]
fn arrays_of_every_width_hold_the_same_numbers() {
    let folder = tempfile::tempdir().unwrap();
    let values = [0.5f32, -2.0, 1.25, 3.0, 0.0, 96.0];
    let head = |kind: &str| format!("{{'descr': '{kind}', 'fortran_order': False, 'shape': (2, 3), }}");
    let mut fvecs = Vec::new();
    for row in values.chunks(3) {
        fvecs.extend(3u32.to_le_bytes());
        row.iter().for_each(|x| fvecs.extend(x.to_le_bytes()));
    }
    let f16: Vec<u8> = values.iter().flat_map(|x| half::f16::from_f32(*x).to_le_bytes()).collect();
    let f64: Vec<u8> = values.iter().flat_map(|x| f64::from(*x).to_le_bytes()).collect();
    for (name, bytes) in [
        ("a.npy", npy_f32(2, 3, |r, c| values[r * 3 + c])),
        ("b.npy", npy(&head("<f2"), &f16)),
        ("c.npy", npy(&head("<f8"), &f64)),
        ("d.fvecs", fvecs),
    ] {
        let mut with = plan(None);
        with.vectors = vec![vectors(named(folder.path(), name, bytes))];
        let got = records(&with);
        assert_eq!(got.len(), 2, "{name}");
        assert_eq!(got[1].vectors["meaning"], Some(values[3..].to_vec()), "{name}");
    }
    let bvecs = [3u8, 0, 0, 0, 1, 2, 255, 3, 0, 0, 0, 4, 5, 6];
    let mut with = plan(None);
    with.vectors = vec![vectors(named(folder.path(), "e.bvecs", bvecs))];
    assert_eq!(records(&with)[0].vectors["meaning"], Some(vec![1.0, 2.0, 255.0]));
}

#[test]
fn broken_arrays_say_what_is_wrong() {
    let folder = tempfile::tempdir().unwrap();
    let refused = |name: &str, bytes: Vec<u8>| {
        let mut with = plan(None);
        with.vectors = vec![vectors(named(folder.path(), name, bytes))];
        refusal(&with)
    };
    let whole = npy_f32(4, 3, |r, _| r as f32);
    let fortran = npy("{'descr': '<f4', 'fortran_order': True, 'shape': (2, 2), }", &[0; 16]);
    assert!(
        refused("a.npy", fortran)
            .contains("Fortran order, column after column; save it with numpy.ascontiguousarray")
    );
    assert!(
        refused("a.npy", whole[..whole.len() - 5].to_vec()).contains("says it has 4 rows of 3 and holds 3")
    );
    assert!(
        refused("a.npy", npy("{'descr': '<i8', 'fortran_order': False, 'shape': (1, 2), }", &[0; 16]))
            .contains("type <i8")
    );
    assert!(
        refused("a.npy", npy("{'descr': '<f4', 'fortran_order': False, 'shape': (4,), }", &[0; 16]))
            .contains("two axes")
    );
    assert!(refused("a.npy", b"PK\x03\x04 not npy".to_vec()).contains("is not an NPY file"));
    assert!(refused("a.npy", npy("{'descr': 'oops", &[])).contains("header cannot be read"));
    assert!(refused("a.fvecs", [3u8, 0, 0, 0, 1, 1, 1, 1].to_vec()).contains("not a whole number of rows"));
    let mixed = [2u8, 0, 0, 0, 1, 2, 3, 0, 0, 0, 1, 2].to_vec();
    assert!(refused("a.bvecs", mixed).contains("row 1 has 3 dimensions, and row 0 has 2"));
}

#[test]
fn rows_go_together_in_order_or_by_key() {
    let folder = tempfile::tempdir().unwrap();
    let array = || named(folder.path(), "v.npy", npy_f32(5, 2, |r, _| r as f32));
    for (name, text) in [("a.jsonl", lines(5)), ("a.csv", "key,year\nk0,0\nk1,1\nk2,2\nk3,3\nk4,4\n".into())]
    {
        let mut with = plan(Some(named(folder.path(), name, text)));
        with.vectors = vec![vectors(array())];
        let got = records(&with);
        assert_eq!(got[3].vectors["meaning"], Some(vec![3.0, 3.0]), "{name}");
    }
    // By key, the keys of the array's rows in a file of their own, in another order.
    let mut with = plan(Some(named(folder.path(), "a.jsonl", lines(3))));
    with.matching = Match::Key;
    let keys = named(folder.path(), "keys.txt", "k2\nother\nk0\nmore\nless\n");
    with.vectors = vec![VectorSource { keys: Some(keys), ..vectors(array()) }];
    let got: Vec<_> =
        records(&with).into_iter().map(|r| r.vectors.get("meaning").cloned().flatten()).collect();
    assert_eq!(got, [Some(vec![2.0, 2.0]), None, Some(vec![0.0, 0.0])]);
    // By key, from a file that has keys; its one vector column may be called anything.
    let file = named(
        folder.path(),
        "w.jsonl",
        "{\"key\": \"k1\", \"w\": [0.5, 1]}\n{\"key\": \"k0\", \"w\": [2.5, 3]}\n",
    );
    with.vectors = vec![vectors(file)];
    assert_eq!(records(&with)[0].vectors["meaning"], Some(vec![2.5, 3.0]));
}

#[test]
fn files_that_do_not_belong_together_are_refused_before_a_row_is_read() {
    let folder = tempfile::tempdir().unwrap();
    let array = named(folder.path(), "v.npy", npy_f32(4, 2, |r, _| r as f32));
    let mut with = plan(Some(named(folder.path(), "a.jsonl", lines(5))));
    with.vectors = vec![vectors(array.clone())];
    assert!(
        refusal(&with).contains("v.npy: has 4 rows, and a.jsonl has 5: they cannot go together row by row")
    );
    with.records = None;
    with.vectors[0].keys = Some(named(folder.path(), "keys.txt", "a\nb\n"));
    assert!(refusal(&with).contains("keys.txt: has 2 rows, and v.npy has 4"));
    with.matching = Match::Key;
    with.records = Some(named(folder.path(), "a.jsonl", lines(4)));
    with.vectors[0].keys = Some(named(folder.path(), "keys.txt", "a\nb\na\nc\n"));
    assert!(refusal(&with).contains("key \"a\" has two vectors"));
    with.vectors[0].keys = None;
    assert!(refusal(&with).contains("has no keys; to match it by key, give a file"));
    with.records = Some(array);
    with.vectors.clear();
    assert!(refusal(&with).contains("holds vectors only"));
    with.records = Some(Named { path: folder.path().into(), name: "a.jsonl".into() });
    assert!(refusal(&with).contains("is a directory"));
    with.records = Some(Named { path: folder.path().join("none"), name: "none.jsonl".into() });
    assert!(refusal(&with).contains("cannot be opened"));
}

#[test]
fn damaged_columnar_files_are_named() {
    let folder = tempfile::tempdir().unwrap();
    for name in ["a.parquet", "a.arrow"] {
        let whole = written(Layout::of(name), &sample(200), None);
        for keep in [0, 3, 100, whole.len() / 2, whole.len() - 9] {
            let error = refusal(&plan(Some(named(folder.path(), name, &whole[..keep]))));
            assert!(
                error.starts_with(&format!("{name}: "))
                    && (error.contains("cut off") || error.contains("damaged")),
                "{error}"
            );
        }
    }
    let mut with = plan(Some(named(folder.path(), "a.parquet", written(Layout::Parquet, &sample(3), None))));
    with.mapping.key = Some("id".into());
    assert!(refusal(&with).contains("has no column \"id\"; its columns are key, year"));
}

#[test]
fn packed_text_is_unpacked_up_to_a_limit() {
    let folder = tempfile::tempdir().unwrap();
    let text = lines(3000);
    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gz.write_all(text.as_bytes()).unwrap();
    let gz = gz.finish().unwrap();
    for (name, bytes) in
        [("a.jsonl.gz", gz.clone()), ("a.jsonl.zst", zstd::encode_all(text.as_bytes(), 3).unwrap())]
    {
        let mut with = plan(Some(named(folder.path(), name, bytes)));
        assert_eq!(records(&with).len(), 3000, "{name}");
        with.limits.unpacked_bytes = 50_000;
        let error = refusal(&with);
        assert!(error.contains("unpacks to more than") && error.contains("--max-unpacked-mb"), "{error}");
    }
    let error = refusal(&plan(Some(named(folder.path(), "cut.jsonl.gz", &gz[..gz.len() / 2]))));
    assert!(error.contains("cannot be read"), "{error}");
    let mut with = plan(Some(named(folder.path(), "long.jsonl", "x".repeat(2000))));
    with.limits.line_bytes = 1000;
    assert!(refusal(&with).contains("line 1 is longer than"));
}

#[test]
fn rows_of_columnar_files_count_the_bytes_that_they_have() {
    let folder = tempfile::tempdir().unwrap();
    for name in ["a.parquet", "a.arrow"] {
        let bytes = written(Layout::of(name), &sample(2500), None);
        let rows = all(&plan(Some(named(folder.path(), name, bytes)))).unwrap();
        let counted: usize = rows.iter().map(|row| row.n_bytes).sum();
        assert!((50..400).contains(&(counted / rows.len())), "{name}: {} a row", counted / rows.len());
    }
}

#[test]
fn reading_goes_on_where_it_stopped() {
    let folder = tempfile::tempdir().unwrap();
    let mut plans = Vec::new();
    for name in ["a.jsonl", "a.csv", "a.parquet", "a.arrow"] {
        let bytes = written(Layout::of(name), &sample(2500), None);
        plans.push(plan(Some(named(folder.path(), name, bytes))));
    }
    let mut beside = plan(Some(named(folder.path(), "b.jsonl", lines(2500))));
    beside.vectors = vec![vectors(named(folder.path(), "v.npy", npy_f32(2500, 2, |r, _| r as f32)))];
    plans.push(beside);
    for plan in &plans {
        let whole = all(plan).unwrap();
        let mut rest = Rows::open(plan).unwrap();
        rest.pass(1777).unwrap();
        assert_eq!(rest.position(), 1777);
        let rest: Vec<Row> = rest.map(Result::unwrap).collect();
        assert_eq!(rest, whole[1777..]);
    }
}

proptest! {
    /// Whatever the bytes, an answer or an error, never a panic.
    #[test]
    fn no_bytes_crash_a_reader(bytes in prop::collection::vec(any::<u8>(), 0..600), which in 0usize..8, magic in any::<bool>()) {
        let names = ["a.jsonl", "a.csv", "a.parquet", "a.arrow", "a.npy", "a.fvecs", "a.bvecs", "a.jsonl.gz"];
        let folder = tempfile::tempdir().unwrap();
        let start: &[u8] = match which { 2 => b"PAR1", 3 => b"ARROW1\0\0", 4 => b"\x93NUMPY\x01\x00", 7 => &[0x1f, 0x8b, 8, 0], _ => b"" };
        let mut all_bytes = if magic { start.to_vec() } else { Vec::new() };
        all_bytes.extend(bytes);
        if which == 2 && magic { all_bytes.extend(b"PAR1"); }
        let file = named(folder.path(), names[which], all_bytes);
        let _ = inspect(&file, Limits::default());
        let mut with = plan(None);
        if Format::of(&file.name).is_matrix() { with.vectors = vec![vectors(file)] } else { with.records = Some(file) }
        let _ = all(&with);
    }

    /// A vector in text is the vector that comes out.
    #[test]
    fn vectors_survive_json(values in prop::collection::vec(prop::num::f32::NORMAL | prop::num::f32::ZERO, 1..40)) {
        let folder = tempfile::tempdir().unwrap();
        let text = json!({"key": "a", "meaning": values}).to_string();
        let got = records(&plan(Some(named(folder.path(), "a.jsonl", text))));
        prop_assert_eq!(got[0].vectors["meaning"].as_ref(), Some(&values));
    }
}

#[test]
fn rows_carry_their_text_to_the_last_digit_when_that_is_asked_for() {
    let folder = tempfile::tempdir().unwrap();
    let digits = "123456789012345678901234567890";
    for (name, text) in [
        ("a.jsonl", format!("{{\"key\":\"a\",\"year\":{digits}}}\n")),
        ("a.csv", format!("key,year\na,{digits}\n")),
    ] {
        let plan = LoadSources { keep_text: true, ..plan(Some(named(folder.path(), name, text))) };
        let rows = all(&plan).unwrap();
        assert!(rows[0].text.as_ref().unwrap().contains(&format!("\"year\":{digits}")), "{:?}", rows[0].text);
    }
}

#[test]
fn a_quote_that_is_never_closed_takes_no_memory_beyond_its_limit() {
    let folder = tempfile::tempdir().unwrap();
    // A megabyte packed, a gigabyte unpacked.
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    std::io::Write::write_all(&mut packed, b"key,note\na,\"").unwrap();
    let block = vec![b'x'; 1 << 20];
    (0..256).for_each(|_| std::io::Write::write_all(&mut packed, &block).unwrap());
    let file = named(folder.path(), "a.csv.gz", packed.finish().unwrap());
    let limits = Limits { line_bytes: 1 << 20, ..Limits::default() };
    let why = inspect(&file, limits).unwrap_err().why;
    assert!(why.contains("line 2 begins a record that is longer than 1 MB"), "{why}");
}
