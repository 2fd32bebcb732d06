//! `zesty`, as a person or a script uses it.

// Tests are deep trees of futures.
#![recursion_limit = "256"]

use serde_json::Value;
use std::io::Write;
use std::process::{Command, Stdio};
use zesty_testing::*;

struct Shell {
    url: String,
    key: String,
    folder: tempfile::TempDir,
}

struct Said {
    code: i32,
    out: String,
    err: String,
}

impl Shell {
    fn new(running: &Running) -> Shell {
        Shell { url: running.url.clone(), key: running.key.clone(), folder: tempfile::tempdir().unwrap() }
    }

    fn command(&self) -> Command {
        let mut command = Command::new(program("zesty"));
        command.env_clear().env("ZESTY_CONFIG", self.folder.path().join("connection.toml"));
        command
    }

    async fn run(&self, arguments: &[&str]) -> Said {
        self.run_with(arguments, "", true).await
    }

    async fn run_with(&self, arguments: &[&str], input: &str, with_key: bool) -> Said {
        let mut command = self.command();
        command.args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        if with_key {
            command.env("ZESTY_URL", &self.url).env("ZESTY_KEY", &self.key);
        }
        let input = input.to_owned();
        let output = tokio::task::spawn_blocking(move || {
            let mut child = command.spawn().unwrap();
            child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
            child.wait_with_output().unwrap()
        });
        let output = output.await.unwrap();
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
        Said { code: output.status.code().unwrap(), out: text(output.stdout), err: text(output.stderr) }
    }

    async fn good(&self, arguments: &[&str]) -> String {
        let said = self.run(arguments).await;
        assert_eq!(said.code, 0, "zesty {}: {}{}", arguments.join(" "), said.out, said.err);
        said.out
    }

    fn file(&self, name: &str, text: &str) -> String {
        let path = self.folder.path().join(name);
        std::fs::write(&path, text).unwrap();
        path.display().to_string()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tour_of_the_readme_works_from_a_shell() {
    let r = with_encoder().await;
    let sh = Shell::new(&r);
    let schema = demo("logbook.schema.json").display().to_string();
    let created = sh
        .good(&[
            "collection",
            "create",
            "logbook",
            "--fields",
            &schema,
            "--encoder",
            "lampwright-small",
            "--template",
            "{note}",
        ])
        .await;
    assert!(created.contains("severity") && created.contains("lampwright-small"));
    let lines: Vec<String> = read_logbook(1500).iter().map(Value::to_string).collect();
    let file = sh.file("book.jsonl", &lines.join("\n"));
    let loaded = sh.good(&["load", "logbook", &file]).await;
    assert!(loaded.contains("read 1,500 = new 1,500 + replaced 0 + unchanged 0 + rejected 0"), "{loaded}");
    assert!(loaded.contains("logbook held 0 records and holds 1,500"), "{loaded}");
    // The same again changes nothing.
    let json: Value = serde_json::from_str(&sh.good(&["--json", "load", "logbook", &file]).await).unwrap();
    assert_eq!((&json["unchanged"], &json["in_database"]), (&1500.into(), &1500.into()));

    let built = sh.good(&["index", "build", "logbook", "graph(links=8, build=50)", "--name", "g"]).await;
    assert!(built.contains("1500 rows") && built.contains("answers searches from now on"), "{built}");
    let listed = sh.good(&["index", "list", "logbook"]).await;
    assert!(listed.contains("graph(links=8, build=50)") && listed.contains("ready"));
    let found = sh
        .good(&[
            "search",
            "logbook",
            "gale tearing at the shutters",
            "--fields",
            "kind,note",
            "-k",
            "5",
            "--beam",
            "10",
        ])
        .await;
    assert!(found.contains("weather") && found.contains("index g with beam 10"), "{found}");
    let json: Value = serde_json::from_str(
        &sh.good(&["search", "logbook", "fog", "--filter", "severity >= 2", "--json"]).await,
    )
    .unwrap();
    assert_eq!(json["hits"].as_array().unwrap().len(), 10);
    assert_eq!(json["via"]["index"], "g");
    let key = json["hits"][0]["key"].as_str().unwrap().to_owned();
    assert!(
        sh.good(&["search", "logbook", "--example", &key, "-k", "3", "--beam", "10"])
            .await
            .contains("approximate")
    );
    let compared = sh.good(&["search", "logbook", "fog bell", "--compare", "--fields", "note"]).await;
    assert!(compared.contains("found 10 of 10") || compared.contains('○'), "{compared}");

    let swept = sh.good(&["sweep", "run", "logbook", "g", "--beams", "10,50"]).await;
    assert!(swept.contains("no index has seen them") && swept.contains("\"sampled\""), "{swept}");
    let lines: Vec<&str> = swept.lines().skip_while(|l| !l.contains("recall mean")).collect();
    let [headings, row] =
        [lines[0], lines[2]].map(|l| l.split("  ").filter(|c| !c.trim().is_empty()).count());
    assert_eq!((headings, row), (13, 13), "a heading for every number: {swept}");
    assert!(swept.contains("p50, logarithmic"), "the frontier is drawn: {swept}");
    assert!(sh.good(&["sweep", "list", "logbook"]).await.contains("sampled"));
    let csv = sh.good(&["sweep", "save", "logbook", "-"]).await;
    assert!(csv.lines().count() == 3 && csv.contains("recall_mean"), "{csv}");
    for (name, part) in [("s.html", "<svg"), ("s.json", "recall_interval"), ("s.parquet", "PAR1")] {
        let path = sh.folder.path().join(name);
        sh.good(&["sweep", "save", "logbook", &path.display().to_string()]).await;
        let bytes = std::fs::read(&path).unwrap();
        assert!(String::from_utf8_lossy(&bytes).contains(part), "{name}");
    }
    let said = sh.run(&["sweep", "save", "logbook", "/tmp/sweep.doc"]).await;
    assert!(said.code == 1 && said.err.contains("csv, parquet, json, html or png"), "{}", said.err);
    let said = sh.good(&["queries", "make", "logbook", "far", "--kind", "blended", "--queries", "50"]).await;
    assert!(said.contains("blended of 3") && said.contains("local dimensionality"), "{said}");
    let file = sh.folder.path().join("asked.jsonl");
    std::fs::write(
        &file,
        "{\"text\": \"fog at night\"}\n{\"text\": \"a broken lamp\", \"filter\": \"severity >= 2\"}\n",
    )
    .unwrap();
    let path = file.display().to_string();
    let said = sh.good(&["queries", "make", "logbook", "asked", "--file", &path]).await;
    assert!(said.contains("2 queries") && said.contains("1 of them have a filter"), "{said}");
    let exported = sh.good(&["queries", "export", "logbook", "asked", "-"]).await;
    assert!(exported.lines().count() == 2 && exported.contains("a broken lamp"), "{exported}");
    assert!(sh.good(&["queries", "list", "logbook"]).await.lines().count() >= 5);
    assert!(sh.good(&["queries", "answer", "logbook", "far", "-k", "150"]).await.contains("150 neighbours"));
    let said =
        sh.good(&["target", "solve", "logbook", "g", "--recall", "0.5", "--queries", "sampled,far"]).await;
    assert!(said.contains("reached with beam"), "{said}");
    let missed = sh.run(&["target", "solve", "logbook", "g", "--recall", "1", "--p5"]).await;
    assert!(matches!(missed.code, 0 | 3), "{}", missed.err);
    assert!(sh.good(&["target", "list", "logbook"]).await.contains("5th percentile"));
    assert!(sh.good(&["serving", "logbook", "--index", "g", "--recall", "0.5"]).await.contains("recall 0.5"));
    sh.good(&["queries", "delete", "logbook", "asked"]).await;
    let said = sh.good(&["watch", "set", "logbook", "--recall", "0.05", "--capture", "0.5", "--texts"]).await;
    assert!(said.contains("captures 50.0%") && said.contains("within 5.0%"), "{said}");
    let said = sh.good(&["watch", "set", "logbook", "--capture", "0"]).await;
    assert!(said.contains("captures no searches") && said.contains("within 5.0%"), "{said}");
    assert!(sh.good(&["watch", "show", "logbook"]).await.contains("checks searches"));
    assert!(sh.good(&["watch", "forget", "logbook"]).await.contains("are forgotten"));
    let seen = sh.good(&["lens", "logbook", "--query", "far:3", "--index", "g", "--beam", "10"]).await;
    assert!(seen.contains("of the true 10") && seen.contains("the query lies"), "{seen}");
    let wrong = sh.run(&["lens", "logbook", "--query", "far", "--index", "g"]).await;
    assert!(wrong.code == 1 && wrong.err.contains("SET:POSITION"), "{}", wrong.err);
    assert!(sh.good(&["serving", "logbook", "--index", "g", "--beam", "50"]).await.contains("g (beam 50)"));
    assert!(sh.good(&["serving", "logbook", "--exact"]).await.contains("exact scan"));
    assert!(sh.good(&["record", "show", "logbook", &key]).await.contains("note"));
    assert!(sh.good(&["record", "list", "logbook", "--limit", "3"]).await.lines().count() >= 4);
    assert!(sh.good(&["job", "list"]).await.contains("sweep"));
    assert!(sh.good(&["encoder", "list"]).await.contains("96"));
    assert!(sh.good(&["status"]).await.contains("database answers"));
    assert!(sh.good(&["collection", "show", "logbook"]).await.contains("visibility_nm"));
    assert!(sh.good(&["console"]).await.contains("/sign-in/"));
    let made = sh.good(&["key", "make", "nightly", "--scope", "write,read", "--ends", "90d"]).await;
    assert!(made.starts_with("zk_"));
    assert!(sh.good(&["key", "list"]).await.contains("nightly"));
    sh.good(&["key", "remove", "nightly"]).await;
    let set = sh.good(&["record", "set", "logbook", &key, "severity=5", "keeper=null", "watch=dog"]).await;
    assert!(set.contains("severity 5") && set.contains("watch dog") && !set.contains("keeper"), "{set}");
    let fields = sh.good(&["fields", "logbook", "--filter", "year < 1940"]).await;
    assert!(fields.contains("1911") && fields.contains("array of strings"), "{fields}");
    let exported = sh.folder.path().join("out.jsonl").display().to_string();
    let said = sh.good(&["export", "logbook", &exported, "--filter", "kind = 'rescue'", "--vectors"]).await;
    let lines = std::fs::read_to_string(&exported).unwrap().lines().count();
    assert!(said.contains(&format!("{lines} records")) && lines > 20, "{said}");
    assert!(sh.good(&["load", "logbook", &exported]).await.contains(&format!("unchanged {lines}")));
    let kept = sh.run(&["record", "delete", "logbook", "--filter", "kind = 'rescue'"]).await;
    assert!(
        kept.code == 1 && kept.err.contains(&format!("{lines} records would be deleted")),
        "{}",
        kept.err
    );
    let gone = sh.good(&["record", "delete", "logbook", "--filter", "kind = 'rescue'", "--yes"]).await;
    assert!(gone.contains(&format!("deleted {lines} records")), "{gone}");
    sh.run(&["record", "delete", "logbook", &key]).await;
    sh.good(&["index", "drop", "logbook", "g"]).await;
    for typed in [&[][..], &["--confirm", "logbok"]] {
        let kept = sh.run(&[&["collection", "drop", "logbook"], typed].concat()).await;
        assert!(kept.code == 1 && kept.err.contains("--confirm logbook"), "{}", kept.err);
    }
    let gone = sh.good(&["collection", "drop", "logbook", "--confirm", "logbook"]).await;
    assert!(gone.contains("zesty collection restore"), "{gone}");
    assert!(sh.good(&["collection", "dropped"]).await.contains("logbook"));
    sh.good(&["collection", "restore", "logbook"]).await;
    assert!(sh.good(&["collection", "list"]).await.contains("logbook"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_search_is_saved_and_handed_out_and_a_setup_is_looked_at() {
    let r = with_encoder().await;
    r.logbook(300).await;
    let sh = Shell::new(&r);
    let file = demo("notes-near.json").display().to_string();
    let saved = sh.good(&["saved", "save", "logbook", "notes-near", &file]).await;
    assert!(saved.contains("zesty saved live logbook notes-near 1"), "{saved}");
    assert_eq!(sh.run(&["saved", "ask", "logbook", "notes-near", "q=fog"]).await.code, 3);
    sh.good(&["saved", "try", "logbook", "notes-near", "q=fog"]).await;
    assert!(
        sh.good(&["saved", "live", "logbook", "notes-near", "1"])
            .await
            .contains("/saved-searches/notes-near/")
    );
    let found =
        sh.good(&["saved", "ask", "logbook", "notes-near", "q=fog bell", "n=2", "kinds=fog signal"]).await;
    assert!(found.contains("2 ") && found.contains("fog signal"), "{found}");
    let wrong = sh.run(&["saved", "ask", "logbook", "notes-near", "q=fog", "n=99"]).await;
    assert!(wrong.code == 1 && wrong.err.contains("an integer from 1 to 50; 99 is given"), "{}", wrong.err);
    let shown = sh.good(&["saved", "show", "logbook", "notes-near"]).await;
    assert!(
        shown.contains("answers at http") && shown.contains("last hour on this node: 1 searches"),
        "{shown}"
    );
    let printed = sh.good(&["saved", "print", "logbook", "notes-near"]).await;
    assert!(
        printed.contains("\"q\"") && printed.find("\"q\"") < printed.find("\"kinds\""),
        "in the order of the file"
    );
    sh.good(&["collection", "clone", "logbook", "next"]).await;
    sh.good(&["collection", "swap", "logbook", "next"]).await;
    assert!(sh.good(&["saved", "list", "logbook"]).await.contains("notes-near"));
    assert!(sh.good(&["collection", "rename", "next", "before"]).await.contains("is called before now"));
    let made = sh.good(&[
        "key",
        "make",
        "shop",
        "--scope",
        "ask",
        "--collection",
        "logbook",
        "--search",
        "notes-near",
    ]);
    assert!(made.await.starts_with("zk_"));
    let looked = sh.good(&["doctor"]).await;
    assert!(looked.contains("ok     database: MariaDB") && looked.contains("0 wrong"), "{looked}");
}

#[tokio::test(flavor = "multi_thread")]
async fn exit_codes_and_messages_can_be_trusted() {
    let r = plain().await;
    let sh = Shell::new(&r);
    sh.good(&[
        "collection",
        "create",
        "points",
        "--dimensions",
        "2",
        "--metric",
        "euclidean",
        "--column",
        "place",
        "--fields",
        &sh.file("f.json", r#"{"properties": {"n": {"type": "integer"}}}"#),
    ])
    .await;

    let said = sh.run(&["search", "ponits", "--vector", "[1,2]"]).await;
    assert_eq!(said.code, 3);
    assert!(said.err.contains("did you mean \"points\"") && said.err.contains("request "), "{}", said.err);
    assert_eq!(sh.run(&["search", "points", "--vector", "[1,2]"]).await.code, 3, "no hits");
    assert_eq!(sh.run(&["search", "points"]).await.code, 2, "no query");
    assert_eq!(sh.run(&["search", "points", "--vector", "[1]"]).await.code, 1);
    let said = sh.run(&["search", "points", "--vector", "[1,2]", "--filter", "n >= 3 AND m = 1"]).await;
    assert_eq!(said.code, 1);
    assert!(said.err.contains("  n >= 3 AND m = 1\n             ^\n"), "{}", said.err);
    let said = sh.run(&["index", "build", "points", "graph(links=0)"]).await;
    assert!(said.code == 1 && said.err.contains("character 13"), "{}", said.err);

    // A wrong line names itself; what comes before it is kept.
    let lines = "{\"key\": 1, \"n\": 1, \"place\": [1, 2]}\n\n{\"key\": 2, \"n\": 2, \"place\": [1, 2, 3]}\n";
    let said = sh.run(&["load", "points", &sh.file("bad.jsonl", lines)]).await;
    assert_eq!(said.code, 1);
    assert!(
        said.err.contains("bad.jsonl, line 3: record \"2\", column \"place\": has 3 dimensions"),
        "{}",
        said.err
    );
    assert!(said.err.contains("1 rows were committed in this run; continue load 1 with"), "{}", said.err);
    let said = sh.run_with(&["load", "points", "-"], "{\"key\": 9, \"n\": 1}\nnonsense\n", true).await;
    assert!(said.code == 1 && said.err.contains("line 2: is not JSON"), "{}", said.err);
    for (file, part) in [
        ("/nowhere.jsonl", "/nowhere.jsonl: No such file"),
        (sh.folder.path().to_str().unwrap(), "is a directory"),
    ] {
        let said = sh.run(&["load", "points", file]).await;
        assert!(said.code == 1 && said.err.contains(part), "{}", said.err);
    }

    // Without a key, with a wrong one, without a service.
    let said = sh.run_with(&["status"], "", false).await;
    assert!(said.code == 4 && said.err.contains("no key in --key"), "{}", said.err);
    assert_eq!(sh.run(&["--key", "zk_wrong", "status"]).await.code, 4);
    let said = sh.run(&["--url", "http://127.0.0.1:9", "status"]).await;
    assert!(said.code == 4 && said.err.contains("cannot reach"), "{}", said.err);
    // A saved connection is found without typing, and is for its owner's eyes only.
    sh.good(&["connect"]).await;
    assert_eq!(sh.run_with(&["status"], "", false).await.code, 0);
    let said = sh.run_with(&["--url", "http://127.0.0.1:9", "status"], "", false).await;
    assert!(
        said.code == 4 && said.err.contains("is for"),
        "a key goes to its own service only: {}",
        said.err
    );
    use std::os::unix::fs::PermissionsExt;
    let mode = std::fs::metadata(sh.folder.path().join("connection.toml")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    for shell in ["bash", "zsh", "fish"] {
        let said = sh.run_with(&["completions", shell], "", false).await;
        assert!(said.code == 0 && said.out.contains("sweep"));
    }
}

#[test]
fn the_demo_refuses_a_taken_port_with_what_to_do() {
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = taken.local_addr().unwrap().port().to_string();
    let folder = tempfile::tempdir().unwrap();
    let output = Command::new(program("zesty-local"))
        .args(["--port", &port, "--data"])
        .arg(folder.path())
        .output()
        .unwrap();
    let err = String::from_utf8(output.stderr).unwrap();
    assert!(!output.status.success() && err.contains("cannot be used") && err.contains("--port"), "{err}");
}

#[test]
fn the_demo_refuses_a_folder_it_cannot_write_to() {
    let folder = tempfile::tempdir().unwrap();
    let port = zesty_local::mariadb::free_port().unwrap().to_string();
    // A file in the place of the data directory: what a read-only disk looks like to a program.
    let file = folder.path().join("file");
    std::fs::write(&file, "x").unwrap();
    let output = Command::new(program("zesty-local"))
        .args(["--port", &port, "--data"])
        .arg(file.join("data"))
        .output()
        .unwrap();
    let err = String::from_utf8(output.stderr).unwrap();
    assert!(!output.status.success() && err.contains("give another folder"), "{err}");
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_inspected_loaded_mended_changed_and_exported_from_a_shell() {
    let r = plain().await;
    let sh = Shell::new(&r);
    let rows: String =
        (0..200).map(|i| format!("d{i},{},Port {},\"[{i}, 1, 0.5]\"\n", 1900 + i % 50, i % 3)).collect();
    let file = sh.file("letters.csv", &format!("doc id,year,port,spot\n{rows}"));
    let description = sh.folder.path().join("letters.json").display().to_string();
    // Looking needs no service, and shows what a load must say.
    let seen = sh.run_with(&["inspect", &file, "--write", &description], "", false).await;
    assert_eq!(seen.code, 0, "{}", seen.err);
    for part in ["keys in \"doc id\"", "year", "integer", "spot", "--key-column 'doc id'"] {
        assert!(seen.out.contains(part), "{part}: {}", seen.out);
    }
    assert_eq!(sh.run(&["inspect", &file, "--write", &description]).await.code, 1, "nothing is written over");
    sh.good(&["collection", "create", "--file", &description]).await;
    let wrong = sh.run(&["load", "letters", &file]).await;
    assert!(
        wrong.code == 1 && wrong.err.contains("no column is called key; the columns are doc id"),
        "{}",
        wrong.err
    );
    let loaded = sh.good(&["load", "letters", &file, "--key-column", "doc id"]).await;
    assert!(loaded.contains("letters held 0 records and holds 200"), "{loaded}");
    assert_eq!(sh.run(&["load", "letters", "--resume"]).await.code, 3, "nothing to resume");

    // A load that stopped continues with its wrong rows set aside; they are corrected and loaded.
    let more = sh.file("more.csv", "key,year\na,1950\nb,soon\nc,1951\n");
    let stopped = sh.run(&["load", "letters", &more]).await;
    assert!(
        stopped.code == 1
            && stopped.err.contains("more.csv, line 3: record \"b\": field \"year\" takes an integer")
    );
    let aside = sh.folder.path().join("aside.jsonl").display().to_string();
    let resumed = sh.good(&["load", "letters", "--resume", "--set-aside", &aside]).await;
    assert!(resumed.contains("read 3 = new 2 + replaced 0 + unchanged 0 + rejected 1"), "{resumed}");
    let mended = std::fs::read_to_string(&aside).unwrap().replace("\"soon\"", "1952");
    let loaded = sh.good(&["load", "letters", &sh.file("mended.jsonl", &mended)]).await;
    assert!(loaded.contains("read 1 = new 1"), "{loaded}");
    assert!(sh.good(&["collection", "loads", "letters"]).await.contains("more.csv"));

    // Fields change; records change by filter; they are listed in order.
    sh.good(&["collection", "change", "letters", "--add", "tide=number", "--widen", "year=number"]).await;
    let shown = sh.good(&["collection", "change", "letters", "--describe", "tide=metres"]).await;
    assert!(shown.contains("tide") && shown.contains("metres"), "{shown}");
    assert_eq!(sh.run(&["collection", "change", "letters", "--widen", "port=integer"]).await.code, 1);
    let changed =
        sh.good(&["record", "set", "letters", "--filter", "year > 1950", "tide=2.5", "--yes"]).await;
    assert!(changed.starts_with("changed 2 records"), "{changed}");
    let first = sh.good(&["record", "list", "letters", "--sort", "-tide", "--limit", "1"]).await;
    assert!(first.contains("tide 2.5"), "{first}");
    let costs = sh.good(&["collection", "cost", "letters"]).await;
    assert!(
        costs.contains("field     tide") && costs.contains("total") && costs.contains("last written"),
        "{costs}"
    );

    // Out in one format, in by another, nothing changed.
    for name in ["out.parquet", "out.arrow", "out.csv"] {
        let out = sh.folder.path().join(name).display().to_string();
        sh.good(&["export", "letters", &out, "--vectors"]).await;
        let again = sh.good(&["load", "letters", &out]).await;
        assert!(again.contains("read 203 = new 0 + replaced 0 + unchanged 203"), "{name}: {again}");
    }
    // A disk that is full leaves no file that looks whole.
    let (out, partial) = (sh.folder.path().join("full.jsonl"), sh.folder.path().join("full.jsonl.partial"));
    std::os::unix::fs::symlink("/dev/full", &partial).unwrap();
    let full = sh.run(&["export", "letters", &out.display().to_string()]).await;
    assert!(full.code != 0 && full.err.contains("No space left"), "{}", full.err);
    assert!(!out.exists() && !partial.exists());
    let npy = sh.folder.path().join("out.npy").display().to_string();
    let keys = sh.folder.path().join("keys.txt").display().to_string();
    assert!(sh.good(&["export", "letters", &npy, "--keys", &keys]).await.starts_with("200 records"));
    let again = sh.good(&["load", "letters", &npy, "--vector-keys", &keys]).await;
    assert!(
        again.contains("read 200 = new 0 + replaced 0 + unchanged 200"),
        "vectors come to their records: {again}"
    );
    let tides = sh.file("tides.csv", "key,tide\nd1,7.5\n");
    assert!(sh.good(&["load", "letters", &tides, "--merge"]).await.contains("replaced 1"));
    let merged = sh.good(&["record", "show", "letters", "d1"]).await;
    assert!(merged.contains("7.5") && merged.contains("Port 1") && merged.contains("1901"), "{merged}");
    assert_eq!(std::fs::read_to_string(&keys).unwrap().lines().count(), 200);
    let gone = sh.run(&["column", "drop", "letters", "spot", "--yes"]).await;
    assert!(gone.code == 1 && gone.err.contains("the only vector column"), "{}", gone.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn searches_are_explained_batched_and_printed_as_csv() {
    let r = with_encoder().await;
    r.logbook(1000).await;
    let shell = Shell::new(&r);
    let tree = shell
        .good(&[
            "search",
            "logbook",
            "fog bell",
            "--filter",
            "year < 1935 AND LENGTH(note) > 20",
            "--explain",
        ])
        .await;
    for part in
        ["├─ filter", "year < 1935:", "LENGTH(note) > 20:", "├─ plan", "scan-allowed", "10 hits, exact"]
    {
        assert!(tree.contains(part), "{part} in {tree}");
    }
    let csv =
        shell.good(&["search", "logbook", "fog bell", "-k", "3", "--csv", "--fields", "station,tags"]).await;
    let lines: Vec<&str> = csv.lines().collect();
    assert_eq!((lines.len(), lines[0]), (4, "place,score,distance,key,station,tags"));
    let key = lines[1].split(',').nth(3).unwrap();
    let spread = shell
        .good(&["search", "logbook", "--example", key, "--at-most", "station=1", "--leave-out", key, "--csv"])
        .await;
    assert!(!spread.contains(key));
    let mut rows = csv::Reader::from_reader(spread.as_bytes());
    let at = rows.headers().unwrap().iter().position(|h| h == "station").unwrap();
    let mut stations: Vec<String> = rows.records().map(|r| r.unwrap()[at].to_owned()).collect();
    assert_eq!(stations.len(), 10);
    stations.sort();
    stations.dedup();
    assert_eq!(stations.len(), 10, "one hit from each station");
    let file = shell.file("questions.txt", &format!("fog bell\n\n{{\"examples\": \"{key}\", \"k\": 1}}\n"));
    let batch =
        shell.good(&["search", "logbook", "--batch", &file, "-k", "2", "--csv", "--fields", "year"]).await;
    assert_eq!(batch.lines().count(), 1 + 2 + 1, "{batch}");
    assert!(batch.starts_with("query,place,score,distance,key,year\nfog bell,1,"), "{batch}");
    let wrong = shell.run(&["search", "logbook", "fog", "--filter", "S_WITHIN(place, POINT(1 2))"]).await;
    assert!(wrong.code != 0 && wrong.err.contains("S_WITHIN is not supported"), "{}", wrong.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_of_texts_becomes_a_collection_that_is_searched_by_text() {
    let r = with_encoder().await;
    let sh = Shell::new(&r);
    let text = "id,Title,added,price\n1,brass lamp with a cracked lens,2024-01-05,12\n2,new rope for the boat,2024-02-05,3.5\n\
                3,paint for the tower,2024-03-01,7\n4,fog bell and clapper,not a date,90\n5,oil for the lamp,2024-04-01,2\n";
    let file = sh.file("things.csv", text);
    // Without an encoder it says which there are; nothing is created.
    let lacking = sh.run(&["load", "shop", &file, "--create"]).await;
    assert!(lacking.code == 1 && lacking.err.contains("lampwright-small (96 dimensions)"), "{}", lacking.err);
    assert!(lacking.err.contains("{Title}"), "{}", lacking.err);
    let make = ["load", "shop", &file, "--create", "--encoder", "lampwright-small", "--template", "{Title}"];
    let asked = sh.run(&make).await;
    assert!(asked.code == 1 && asked.err.contains("--yes creates without asking"), "{}", asked.err);
    assert!(asked.out.contains("4 of 5 look like dates; line 5 is \"not a date\""), "{}", asked.out);
    assert_eq!(r.client.collections().await.unwrap().len(), 0);
    // A chosen type is counted before anything is loaded.
    let dates = [&make[..], &["--type", "added=date"]].concat();
    let asked = sh.run(&dates).await;
    assert!(
        asked.out.contains("taken as date: 1 of the file's rows would be rejected, line 5"),
        "{}",
        asked.out
    );
    assert!(asked.err.contains("one row is rejected, and stops the load"), "{}", asked.err);
    let aside = sh.folder.path().join("bad.jsonl").display().to_string();
    let done = sh.good(&[&dates[..], &["--set-aside", &aside, "--yes"]].concat()).await;
    assert!(done.contains("read 5 = new 4 + replaced 0 + unchanged 0 + rejected 1"), "{done}");
    let found = sh.good(&["search", "shop", "a light", "-k", "2", "--fields", "Title"]).await;
    assert!(found.contains("lamp"), "{found}");
    let again = sh.run(&[&make[..], &["--yes"]].concat()).await;
    assert!(again.code == 1 && again.err.contains("exists already"), "{}", again.err);

    // The same in two steps: a description that is taken as it is, under another name.
    let about = sh.folder.path().join("about.json").display().to_string();
    let write = ["--encoder", "lampwright-small", "--template", "{Title}", "--write", &about];
    sh.good(&[&["inspect", &file][..], &write].concat()).await;
    let made = sh.good(&["collection", "create", "other", "--file", &about]).await;
    assert!(made.contains("other") && made.contains("lampwright-small"), "{made}");
    sh.good(&["load", "other", &file, "--key-column", "id"]).await;
    // A collection may be there before its first vector column.
    sh.good(&["collection", "create", "later"]).await;
    let early = sh.run(&["search", "later", "x"]).await;
    assert!(early.code == 1 && early.err.contains("no vector column yet"), "{}", early.err);
    sh.good(&["column", "add", "later", "v", "--dimensions", "3"]).await;
    let odd = sh.run(&["load", "other", &file, "--type", "added=date"]).await;
    assert!(odd.code == 1 && odd.err.contains("give --create"), "{}", odd.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn recipes_are_advised_sides_compared_and_judged_and_a_map_drawn() {
    let r = with_encoder().await;
    r.logbook(1200).await;
    let sh = Shell::new(&r);
    // Nothing within the memory: exit code 3, and why.
    let none = sh.run(&["advise", "run", "logbook", "--memory", "0.01"]).await;
    assert!(none.code == 3 && none.out.contains("no recipe fits the memory"), "{}{}", none.out, none.err);
    let advised = sh.good(&["advise", "run", "logbook", "--recall", "0.9", "--finalists", "1"]).await;
    assert!(advised.contains("the fastest that reaches the target"), "{advised}");
    assert!(sh.good(&["advise", "list", "logbook"]).await.contains("within 0.01 MB"));
    let index = r.client.indexes("logbook").await.unwrap()[0].name.clone();
    let auto = sh.good(&["recipe", "explain", "auto(recall=0.9)", "--collection", "logbook"]).await;
    assert!(auto.contains("advice") && auto.contains("measured it"), "{auto}");

    let compared = sh.good(&["compare", "run", "logbook", &index, "exact", "-k", "5"]).await;
    assert!(
        compared.contains("the exact scan") && compared.contains("by recall: left better on 0"),
        "{compared}"
    );
    let same = sh.run(&["compare", "run", "logbook", &index, &index]).await;
    assert!(same.code == 1 && same.err.contains("both sides are the same"), "{}", same.err);
    let typed = sh.run(&["compare", "run", "logbook", &format!("{index},width=3"), "exact"]).await;
    assert!(typed.code != 0 && typed.err.contains("\"width=3\" is no setting"), "{}", typed.err);
    let id = r.client.comparisons("logbook").await.unwrap()[0].id.to_string();
    let page = r.client.compared_queries("logbook", id.parse().unwrap(), 0, 1).await.unwrap();
    let position = page.queries[0].position.to_string();
    let hits = ["compare", "hits", "logbook", &id, "--position", &position, "--fields", "kind"];
    let hits = sh.good(&hits).await;
    assert!(hits.contains("not judged") && hits.contains(page.queries[0].right[4].key.as_ref().unwrap()));
    let judged = sh.good(&["compare", "judge", "logbook", &id, &position, "right"]).await;
    assert!(judged.contains("1 verdicts: left 0, right 1"), "{judged}");
    assert!(sh.good(&["compare", "judge", "logbook", &id, &position, "open"]).await.contains("no verdicts"));
    sh.good(&["compare", "delete", "logbook", &id]).await;
    assert_eq!(sh.run(&["compare", "show", "logbook"]).await.code, 3);

    let map = sh.good(&["map", "logbook", "fog bell", "--field", "kind", "--index", &index]).await;
    assert!(map.contains("1,200 of 1,200 records") && map.contains('@') && map.contains("kind: a "), "{map}");
    let csv = sh.good(&["map", "logbook", "fog bell", "--csv", "--records", "50", "--index", &index]).await;
    assert!(csv.starts_with("mark,key,x,y,value,distance\nrecord,"), "{csv}");
    assert_eq!(csv.lines().filter(|l| l.starts_with("record,")).count(), 50);
    assert_eq!(csv.lines().filter(|l| l.starts_with("query,")).count(), 1);
    assert_eq!(sh.run(&["lens", "logbook"]).await.code, 1, "nothing asks");
}
