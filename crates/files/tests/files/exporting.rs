//! Files written, and read again.

use crate::samples::*;
use serde_json::{Value, json};
use zesty_files::*;

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
fn tables_of_other_programs_are_read_type_by_type() {
    use arrow_array::builder::*;
    use arrow_array::types::*;
    use arrow_array::*;
    use arrow_schema::*;
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
    let offsets = arrow_buffer::OffsetBuffer::new(vec![0i64, 2, 2, 4].into());
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
    let mut writer = arrow_ipc::writer::FileWriter::try_new(&mut file, &batch.schema()).unwrap();
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
    let mut writer = arrow_ipc::writer::StreamWriter::try_new(&mut file, &odd.schema()).unwrap();
    writer.write(&odd).unwrap();
    writer.finish().unwrap();
    drop(writer);
    let mut with = plan(Some(named(folder.path(), "odd.arrows", file)));
    assert!(refusal(&with).contains("column \"raw\" is of type Binary, which is not read here"));
    with.mapping.only = Some(vec!["key".into()]);
    assert_eq!(records(&with).len(), 1, "what is left out may be of any type");
}
