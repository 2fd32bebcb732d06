//! Files of every format, honest and broken: what is read is what was written, and what is wrong
//! is said with its file, its place and a remedy.

use proptest::prelude::*;
use serde_json::{Map, Value, json};
use std::io::Write;
use std::path::Path;
use zesty_files::*;

fn named(folder: &Path, name: &str, bytes: impl AsRef<[u8]>) -> Named {
    let path = folder.join(name);
    std::fs::write(&path, bytes).unwrap();
    Named { path, name: name.into() }
}

fn shape() -> TargetFields {
    let fields = [
        ("year", Kind::Number),
        ("note", Kind::Text),
        ("tags", Kind::Array),
        ("dry", Kind::Boolean),
        ("place.lat", Kind::Number),
        ("place.name", Kind::Text),
    ];
    TargetFields { fields: fields.map(|(n, k)| (n.to_owned(), k)).into(), columns: vec!["meaning".into()] }
}

fn plan(records: Option<Named>) -> LoadSources {
    LoadSources {
        keep_text: false,
        records,
        vectors: Vec::new(),
        matching: Match::Row,
        mapping: Mapping::default(),
        target: shape(),
        limits: Limits::default(),
    }
}

fn vectors(file: Named) -> VectorSource {
    VectorSource { column: "meaning".into(), file, keys: None }
}

fn all(plan: &LoadSources) -> Result<Vec<Row>, FileError> {
    Rows::open(plan)?.collect()
}

fn records(plan: &LoadSources) -> Vec<Record> {
    all(plan).unwrap().into_iter().map(|r| r.record.unwrap()).collect()
}

fn refusal(plan: &LoadSources) -> String {
    all(plan).unwrap_err().to_string()
}

fn npy(header: &str, body: &[u8]) -> Vec<u8> {
    let mut header = header.to_owned();
    while !(header.len() + 11).is_multiple_of(64) {
        header.push(' ');
    }
    header.push('\n');
    let mut out = b"\x93NUMPY\x01\x00".to_vec();
    out.extend((header.len() as u16).to_le_bytes());
    out.extend(header.as_bytes());
    out.extend(body);
    out
}

fn npy_f32(rows: usize, dimensions: usize, value: impl Fn(usize, usize) -> f32) -> Vec<u8> {
    let header = format!("{{'descr': '<f4', 'fortran_order': False, 'shape': ({rows}, {dimensions}), }}");
    let body: Vec<u8> =
        (0..rows * dimensions).flat_map(|i| value(i / dimensions, i % dimensions).to_le_bytes()).collect();
    npy(&header, &body)
}

fn lines(n: usize) -> String {
    (0..n).map(|i| format!("{{\"key\": \"k{i}\", \"year\": {}}}\n", 1900 + i)).collect()
}

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
    assert!(reason(7).contains("no array of finite numbers"));
    assert_eq!(rows[7].record.as_ref().unwrap_err().text, r#"{"key": "n", "meaning": ["x"]}"#);
    assert_eq!(rows[8].record.as_ref().unwrap().fields.len(), 1, "a mended reject loads again");
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

fn sample(n: usize) -> Vec<OutRecord> {
    (0..n)
        .map(|i| {
            let fields = json!({"year": 1900 + i, "depth": i as f64 / 3.0, "dry": i % 2 == 0, "logged": "1931-10-04",
                "at": "1931-10-04T18:30:00.5Z", "tags": ["a", "b"], "codes": [1, -2], "note": format!("n, \"{i}\"\n"),
                "place": {"lat": 1.25}});
            let Value::Object(mut fields) = fields else { unreachable!() };
            if i == 1 {
                fields = Map::new();
            }
            let vector = (i != 2).then(|| vec![i as f32, 0.1, -3e-9]);
            OutRecord { key: format!("k{i}"), fields, vectors: vec![vector] }
        })
        .collect()
}

fn written(layout: Layout, records: &[OutRecord], encoder: Option<&str>) -> Vec<u8> {
    let fields = [
        ("year", "integer"),
        ("depth", "number"),
        ("dry", "boolean"),
        ("logged", "date"),
        ("at", "timestamp"),
        ("tags", "array of strings"),
        ("codes", "array of integers"),
        ("note", "string"),
        ("place.lat", "number"),
    ];
    let column = OutColumn { name: "meaning".into(), dimensions: 3, encoder: encoder.map(Into::into) };
    let keys: Vec<String> = records.iter().map(|r| r.key.clone()).collect();
    let fields = fields.map(|(n, k)| (n.to_owned(), k.to_owned())).to_vec();
    let mut export = Export::new(layout, fields, vec![column], &keys).unwrap();
    let mut out = Vec::new();
    for portion in records.chunks(2) {
        out.extend(export.write(portion).unwrap());
    }
    out.extend(export.finish().unwrap());
    out
}

#[test]
fn what_is_exported_is_loaded_again_in_every_format() {
    let folder = tempfile::tempdir().unwrap();
    let sample = sample(5);
    let mut with = plan(None);
    let kinds = [
        ("year", Kind::Number),
        ("depth", Kind::Number),
        ("dry", Kind::Boolean),
        ("tags", Kind::Array),
        ("codes", Kind::Array),
        ("place.lat", Kind::Number),
        ("logged", Kind::Text),
        ("at", Kind::Text),
        ("note", Kind::Text),
    ];
    with.target.fields = kinds.map(|(n, k)| (n.to_owned(), k)).into();
    for name in ["a.jsonl", "a.csv", "a.parquet", "a.arrows"] {
        let bytes = written(Layout::of(name), &sample, Some("lamp"));
        with.records = Some(named(folder.path(), name, bytes));
        let rows = Rows::open(&with).unwrap();
        let says_encoder = matches!(name, "a.parquet" | "a.arrows");
        assert_eq!(
            rows.encoders.get("meaning").map(String::as_str),
            says_encoder.then_some("lamp"),
            "{name}"
        );
        let got: Vec<Record> = rows.map(|r| r.unwrap().record.unwrap()).collect();
        assert_eq!(got.len(), 5, "{name}");
        for (got, given) in got.iter().zip(&sample) {
            assert_eq!(got.key, given.key);
            for (field, value) in &given.fields {
                // A time is the same instant, however many digits it is written with.
                let same = match field.as_str() {
                    "at" => got.fields[field].as_str().unwrap().starts_with("1931-10-04T18:30:00.5"),
                    _ => got.fields.get(field) == Some(value),
                };
                assert!(same, "{name}, {field}: {:?} is not {value}", got.fields.get(field));
            }
            assert_eq!(got.fields.len(), given.fields.len(), "{name}");
            assert_eq!(got.vectors.get("meaning").cloned().flatten(), given.vectors[0], "{name}");
        }
    }
}

#[test]
fn exported_arrays_are_read_by_ordinary_libraries() {
    let folder = tempfile::tempdir().unwrap();
    let all: Vec<OutRecord> = sample(6).into_iter().filter(|r| r.vectors[0].is_some()).collect();
    let file = named(folder.path(), "a.npy", written(Layout::Npy, &all, None));
    let mut with = plan(None);
    with.vectors = vec![vectors(file)];
    let got = records(&with);
    assert_eq!(got.iter().map(|r| r.key.as_str()).collect::<Vec<_>>(), ["0", "1", "2", "3", "4"]);
    assert_eq!(got[4].vectors["meaning"], all[4].vectors[0]);
    let npy = npyz::NpyFile::new(std::fs::File::open(folder.path().join("a.npy")).unwrap()).unwrap();
    assert_eq!(npy.shape(), [5, 3]);
    assert_eq!(npy.into_vec::<f32>().unwrap().len(), 15);

    let bytes = written(Layout::Safetensors, &all, Some("lamp"));
    let tensors = safetensors::SafeTensors::deserialize(&bytes).unwrap();
    let vectors: Vec<f32> = bytemuck::pod_collect_to_vec(tensors.tensor("vectors").unwrap().data());
    assert_eq!(
        vectors.chunks(3).map(<[f32]>::to_vec).map(Some).collect::<Vec<_>>(),
        all.iter().map(|r| r.vectors[0].clone()).collect::<Vec<_>>()
    );
    let ends: Vec<i64> = bytemuck::pod_collect_to_vec(tensors.tensor("key_ends").unwrap().data());
    let keys = tensors.tensor("keys").unwrap().data();
    assert_eq!(&keys[ends[2] as usize..ends[3] as usize], b"k4");
    assert_eq!(written(Layout::Keys, &all, None), b"k0\nk1\nk3\nk4\nk5\n");
    // A header that promised more than came is no file.
    let short = Export::new(
        Layout::Npy,
        vec![],
        vec![OutColumn { name: "m".into(), dimensions: 3, encoder: None }],
        &["a".into()],
    );
    assert!(short.unwrap().finish().unwrap_err().to_string().contains("export again"));
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
    assert!(refused("a.npy", b"PK\x03\x04 not npy".to_vec()).contains("is no NPY file"));
    assert!(refused("a.npy", npy("{'descr': 'oops", &[])).contains("header cannot be read"));
    assert!(refused("a.fvecs", [3u8, 0, 0, 0, 1, 1, 1, 1].to_vec()).contains("no whole number of rows"));
    let mixed = [2u8, 0, 0, 0, 1, 2, 3, 0, 0, 0, 1, 2].to_vec();
    assert!(refused("a.bvecs", mixed).contains("row 1 says it has 3 dimensions, and row 0 has 2"));
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

#[test]
fn a_file_is_inspected_before_anything_is_created() {
    let folder = tempfile::tempdir().unwrap();
    let csv = "doc id,id,year,depth,logged,at,dry,tags,embedding,code,when\n".to_owned()
        + &(0..40).map(|i| format!(
            "x,{i},{},{},1931-10-0{},1931-10-04T18:30:00Z,true,\"[\"\"a\"\"]\",\"[0.5, 1, {i}]\",007,{}\n",
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
            ("when", "string")
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
fn tables_of_other_programs_are_read_type_by_type() {
    use arrow::array::*;
    use arrow::datatypes::*;
    use std::sync::Arc as A;
    let folder = tempfile::tempdir().unwrap();
    let mut words: StringDictionaryBuilder<Int8Type> = StringDictionaryBuilder::new();
    words.append_value("fog");
    words.append_null();
    words.append_value("fog");
    let halves = |v: [f32; 6]| Float16Array::from_iter_values(v.map(half::f16::from_f32));
    let item = |kind| A::new(Field::new("item", kind, true));
    let fixed = FixedSizeListArray::new(
        item(DataType::Float16),
        2,
        A::new(halves([1.0, 2.0, 3.0, 4.0, 5.0, 6.0])),
        None,
    );
    let offsets = arrow::buffer::OffsetBuffer::new(vec![0i64, 2, 2, 4].into());
    let nulls = Some(vec![true, false, true].into());
    let large = LargeListArray::new(
        item(DataType::Float64),
        offsets,
        A::new(Float64Array::from(vec![0.5, 1.5, 2.5, 3.5])),
        nulls,
    );
    let inner: ArrayRef = A::new(Float32Array::from(vec![Some(0.1f32), None, Some(2.0)]));
    let place = StructArray::from(vec![(A::new(Field::new("lat", DataType::Float32, true)), inner)]);
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("key", A::new(Int64Array::from(vec![7, 8, 9]))),
        ("note", A::new(words.finish())),
        ("meaning", A::new(fixed)),
        ("other", A::new(large)),
        ("place", A::new(place)),
        ("day", A::new(Date64Array::from(vec![0, 86_400_000, -86_400_000]))),
        ("at", A::new(TimestampNanosecondArray::from(vec![Some(1_500), None, Some(-1_000_000_000)]))),
        ("big", A::new(UInt64Array::from(vec![u64::MAX, 1, 2]))),
        ("tags", A::new(StringViewArray::from(vec!["a", "b", "c"]))),
    ];
    let batch = RecordBatch::try_from_iter(columns).unwrap();
    let mut file = Vec::new();
    let mut writer = arrow::ipc::writer::FileWriter::try_new(&mut file, &batch.schema()).unwrap();
    writer.write(&batch).unwrap();
    writer.finish().unwrap();
    drop(writer);
    let mut packed = Vec::new();
    let mut writer = parquet::arrow::ArrowWriter::try_new(&mut packed, batch.schema(), None).unwrap();
    writer.write(&batch).unwrap();
    writer.close().unwrap();
    for (name, bytes) in [("a.arrow", file), ("a.parquet", packed)] {
        let mut with = plan(Some(named(folder.path(), name, bytes)));
        with.target.columns.push("other".into());
        let got = records(&with);
        assert_eq!(got.iter().map(|r| r.key.as_str()).collect::<Vec<_>>(), ["7", "8", "9"], "{name}");
        assert_eq!(got[2].vectors["meaning"], Some(vec![5.0, 6.0]), "{name}");
        assert_eq!(
            (&got[0].vectors["other"], &got[1].vectors["other"]),
            (&Some(vec![0.5, 1.5]), &None),
            "{name}"
        );
        let expected = json!({"note": "fog", "place": {"lat": 0.1}, "day": "1970-01-01", "at": "1970-01-01T00:00:00.000001Z",
            "big": u64::MAX, "tags": "a"});
        assert_eq!(Value::Object(got[0].fields.clone()), expected, "{name}");
        assert_eq!(
            (got[1].fields.get("note"), &got[2].fields["day"]),
            (None, &json!("1969-12-31")),
            "{name}"
        );
    }
    let odd = RecordBatch::try_from_iter([
        ("key", A::new(StringArray::from(vec!["a"])) as ArrayRef),
        ("raw", A::new(BinaryArray::from(vec![&b"x"[..]])) as ArrayRef),
    ])
    .unwrap();
    let mut file = Vec::new();
    let mut writer = arrow::ipc::writer::StreamWriter::try_new(&mut file, &odd.schema()).unwrap();
    writer.write(&odd).unwrap();
    writer.finish().unwrap();
    drop(writer);
    let mut with = plan(Some(named(folder.path(), "odd.arrows", file)));
    assert!(refusal(&with).contains("column \"raw\" is of type Binary, which is not read here"));
    with.mapping.only = Some(vec!["key".into()]);
    assert_eq!(records(&with).len(), 1, "what is left out may be of any type");
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
        wrong("nobody", "date").contains("its fields are added, n") && wrong("n", "day").contains("no type")
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
    assert!(twice[0].record.as_ref().unwrap_err().reason.contains("\"year\" stands twice"));
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
