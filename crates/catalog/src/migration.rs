//! The tables, version by version.

use sea_orm_migration::prelude::*;

pub struct Migrator;

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(First),
            Box::new(Step("m0002_loading", &LOADING)),
            Box::new(Step("m0003_nodes", &NODES)),
            Box::new(Step("m0004_words_of_recipes_and_jobs", &WORDS)),
            Box::new(Measuring),
            Box::new(Step("m0006_comparing", &[COMPARING])),
            Box::new(Access),
            Box::new(Step("m0008_saving", &SAVING)),
            Box::new(Step("m0009_lifecycle", &[LIFECYCLE])),
            Box::new(Step("m0010_known_text", &[KNOWN_TEXT])),
            Box::new(Step("m0011_done_once", &[DONE_ONCE])),
            Box::new(Step("m0012_answers_in_parts", &ANSWERS_IN_PARTS)),
            Box::new(Step("m0013_vectors_in_blocks", &VECTORS_IN_BLOCKS)),
        ]
    }
}

/// Statements under a name, run one after another.
struct Step(&'static str, &'static [&'static str]);

impl MigrationName for Step {
    fn name(&self) -> &str {
        self.0
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Step {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        for statement in self.1 {
            manager.get_connection().execute_unprepared(statement).await?;
        }
        Ok(())
    }
}

struct First;

impl MigrationName for First {
    fn name(&self) -> &str {
        "m0001_first_tables"
    }
}

/// Plain DDL: the exact types matter (`nopad` keys, medium blobs), and this shows them.
const TABLES: [&str; 10] = [
    "CREATE TABLE encoders (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        name VARCHAR(64) NOT NULL UNIQUE,
        url VARCHAR(500) NOT NULL,
        model VARCHAR(200) NOT NULL,
        dimensions INT UNSIGNED NOT NULL,
        created_at DATETIME(3) NOT NULL)",
    "CREATE TABLE access_keys (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        name VARCHAR(64) NOT NULL UNIQUE,
        hash CHAR(64) NOT NULL UNIQUE,
        created_at DATETIME(3) NOT NULL)",
    // One-time sign-in links and console sessions: both are secrets that end.
    "CREATE TABLE access_tickets (
        hash CHAR(64) NOT NULL PRIMARY KEY,
        kind VARCHAR(16) NOT NULL,
        key_id BIGINT NOT NULL,
        expires_at DATETIME(3) NOT NULL,
        INDEX (key_id))",
    "CREATE TABLE collections (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        name VARCHAR(64) NOT NULL UNIQUE,
        description TEXT NOT NULL,
        fields LONGTEXT NOT NULL CHECK (JSON_VALID(fields)),
        revision BIGINT NOT NULL,
        next_number BIGINT NOT NULL,
        created_at DATETIME(3) NOT NULL)",
    "CREATE TABLE vector_columns (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        collection_id BIGINT NOT NULL,
        name VARCHAR(64) NOT NULL,
        dimensions INT UNSIGNED NOT NULL,
        metric VARCHAR(16) NOT NULL,
        encoder VARCHAR(64) NULL,
        template TEXT NULL,
        serving LONGTEXT NULL CHECK (serving IS NULL OR JSON_VALID(serving)),
        UNIQUE (collection_id, name))",
    "CREATE TABLE records (
        collection_id BIGINT NOT NULL,
        number BIGINT NOT NULL,
        `key` VARCHAR(190) NOT NULL,
        revision BIGINT NOT NULL,
        deleted BOOLEAN NOT NULL,
        body LONGTEXT NOT NULL CHECK (JSON_VALID(body)),
        PRIMARY KEY (collection_id, number),
        UNIQUE (collection_id, `key`),
        INDEX (collection_id, revision))",
    "CREATE TABLE vectors (
        column_id BIGINT NOT NULL,
        number BIGINT NOT NULL,
        data MEDIUMBLOB NOT NULL,
        PRIMARY KEY (column_id, number))",
    "CREATE TABLE indexes (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        collection_id BIGINT NOT NULL,
        column_id BIGINT NOT NULL,
        name VARCHAR(64) NOT NULL,
        recipe VARCHAR(500) NOT NULL,
        state VARCHAR(16) NOT NULL,
        revision BIGINT NOT NULL,
        n_rows BIGINT NOT NULL,
        n_bytes BIGINT NOT NULL,
        build_seconds DOUBLE NOT NULL,
        seed BIGINT NOT NULL,
        error TEXT NULL,
        created_at DATETIME(3) NOT NULL,
        UNIQUE (collection_id, name))",
    "CREATE TABLE jobs (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        kind VARCHAR(32) NOT NULL,
        collection VARCHAR(64) NOT NULL,
        subject VARCHAR(200) NOT NULL,
        state VARCHAR(16) NOT NULL,
        node VARCHAR(64) NOT NULL,
        result LONGTEXT NULL CHECK (result IS NULL OR JSON_VALID(result)),
        error TEXT NULL,
        created_at DATETIME(3) NOT NULL,
        finished_at DATETIME(3) NULL)",
    "CREATE TABLE sweeps (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        collection_id BIGINT NOT NULL,
        column_id BIGINT NOT NULL,
        index_name VARCHAR(64) NOT NULL,
        recipe VARCHAR(500) NOT NULL,
        spec LONGTEXT NOT NULL CHECK (JSON_VALID(spec)),
        result LONGTEXT NOT NULL CHECK (JSON_VALID(result)),
        created_at DATETIME(3) NOT NULL,
        INDEX (collection_id))",
];

#[async_trait::async_trait]
impl MigrationTrait for First {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        for table in TABLES {
            let options = "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin";
            manager.get_connection().execute_unprepared(&format!("{table} {options}")).await?;
        }
        Ok(())
    }
}

const LOADING: [&str; 4] = [
    "ALTER TABLE collections
        ADD COLUMN shape BIGINT NOT NULL DEFAULT 0,
        ADD COLUMN default_column VARCHAR(64) NULL,
        ADD COLUMN written_at DATETIME(3) NULL",
    "CREATE TABLE loads (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        collection_id BIGINT NOT NULL,
        collection VARCHAR(64) NOT NULL,
        node VARCHAR(64) NOT NULL,
        job_id BIGINT NOT NULL,
        spec LONGTEXT NOT NULL CHECK (JSON_VALID(spec)),
        state VARCHAR(16) NOT NULL,
        position BIGINT NOT NULL,
        n_new BIGINT NOT NULL,
        n_replaced BIGINT NOT NULL,
        n_unchanged BIGINT NOT NULL,
        n_rejected BIGINT NOT NULL,
        n_unencoded BIGINT NOT NULL,
        rejects_bytes BIGINT NOT NULL,
        n_before BIGINT NOT NULL,
        error TEXT NULL,
        created_at DATETIME(3) NOT NULL,
        finished_at DATETIME(3) NULL,
        INDEX (collection_id)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    // Records whose text the encoder of a column would not take, and why.
    "CREATE TABLE unencoded (
        column_id BIGINT NOT NULL,
        number BIGINT NOT NULL,
        reason TEXT NOT NULL,
        PRIMARY KEY (column_id, number)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    // Vectors that were given to records without changing them: what followers would not see otherwise.
    "CREATE TABLE fills (
        collection_id BIGINT NOT NULL,
        revision BIGINT NOT NULL,
        column_id BIGINT NOT NULL,
        numbers MEDIUMBLOB NOT NULL,
        PRIMARY KEY (collection_id, revision)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
];

const NODES: [&str; 7] = [
    "ALTER TABLE collections ADD COLUMN IF NOT EXISTS choices BIGINT NOT NULL DEFAULT 0",
    "ALTER TABLE indexes ADD COLUMN IF NOT EXISTS node VARCHAR(64) NOT NULL DEFAULT ''",
    "CREATE TABLE IF NOT EXISTS nodes (
        name VARCHAR(64) NOT NULL PRIMARY KEY,
        seen_at DATETIME(3) NOT NULL) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    // What was deleted and whose rows are still to be cleared.
    "CREATE TABLE IF NOT EXISTS discarded (
        kind VARCHAR(16) NOT NULL,
        id BIGINT NOT NULL,
        PRIMARY KEY (kind, id)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    "INSERT IGNORE INTO discarded SELECT DISTINCT 'collection', collection_id FROM records
        WHERE collection_id NOT IN (SELECT id FROM collections)",
    "INSERT IGNORE INTO discarded SELECT DISTINCT 'collection', collection_id FROM loads
        WHERE collection_id NOT IN (SELECT id FROM collections)",
    "INSERT IGNORE INTO discarded SELECT DISTINCT 'column', column_id FROM vectors
        WHERE column_id NOT IN (SELECT id FROM vector_columns)",
];

const WORDS: [&str; 3] = [
    "UPDATE indexes SET recipe =
        REPLACE(REPLACE(recipe, 'beside=on', 'inline_codes=on'), 'spill=on', 'overlap=on')",
    "UPDATE sweeps SET recipe =
        REPLACE(REPLACE(recipe, 'beside=on', 'inline_codes=on'), 'spill=on', 'overlap=on')",
    "UPDATE jobs SET kind = 'backfill' WHERE kind = 'fill'",
];

struct Measuring;

impl MigrationName for Measuring {
    fn name(&self) -> &str {
        "m0005_measuring"
    }
}

/// Exact answers of before left all held-out records out at once; they are computed again.
const ANSWERS_IN_PARTS: [&str; 2] = ["DELETE FROM exact_neighbours", "DELETE FROM exact_answers"];

/// Sweeps of before asked an index for its own records, which it answers better than anything else: they are dropped.
const MEASURING: [&str; 9] = [
    "DROP TABLE IF EXISTS sweeps",
    "CREATE TABLE IF NOT EXISTS query_sets (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        collection_id BIGINT NOT NULL,
        column_id BIGINT NOT NULL,
        name VARCHAR(64) NOT NULL,
        spec LONGTEXT NOT NULL CHECK (JSON_VALID(spec)),
        n_queries BIGINT NOT NULL,
        revision BIGINT NOT NULL,
        difficulty LONGTEXT NULL CHECK (difficulty IS NULL OR JSON_VALID(difficulty)),
        created_at DATETIME(3) NOT NULL,
        UNIQUE (collection_id, name))",
    "CREATE TABLE IF NOT EXISTS queries (
        set_id BIGINT NOT NULL,
        position BIGINT NOT NULL,
        vector MEDIUMBLOB NOT NULL,
        number BIGINT NULL,
        text MEDIUMTEXT NULL,
        filter LONGTEXT NULL CHECK (filter IS NULL OR JSON_VALID(filter)),
        relevant LONGTEXT NULL CHECK (relevant IS NULL OR JSON_VALID(relevant)),
        PRIMARY KEY (set_id, position))",
    "CREATE TABLE IF NOT EXISTS exact_answers (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        set_id BIGINT NOT NULL,
        k INT NOT NULL,
        revision BIGINT NOT NULL,
        share DOUBLE NOT NULL,
        n_rows BIGINT NOT NULL,
        seconds DOUBLE NOT NULL,
        created_at DATETIME(3) NOT NULL,
        INDEX (set_id))",
    "CREATE TABLE IF NOT EXISTS exact_neighbours (
        answers_id BIGINT NOT NULL,
        position BIGINT NOT NULL,
        neighbours MEDIUMBLOB NOT NULL,
        typical FLOAT NOT NULL,
        PRIMARY KEY (answers_id, position))",
    "CREATE TABLE IF NOT EXISTS measurements (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        collection_id BIGINT NOT NULL,
        column_id BIGINT NOT NULL,
        kind VARCHAR(16) NOT NULL,
        spec LONGTEXT NOT NULL CHECK (JSON_VALID(spec)),
        result LONGTEXT NOT NULL CHECK (JSON_VALID(result)),
        created_at DATETIME(3) NOT NULL,
        INDEX (collection_id, kind))",
    "CREATE TABLE IF NOT EXISTS watches (
        collection_id BIGINT NOT NULL PRIMARY KEY,
        spec LONGTEXT NOT NULL CHECK (JSON_VALID(spec)))",
    "CREATE TABLE IF NOT EXISTS captured (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        collection_id BIGINT NOT NULL,
        column_id BIGINT NOT NULL,
        vector MEDIUMBLOB NOT NULL,
        k INT NOT NULL,
        filter LONGTEXT NULL CHECK (filter IS NULL OR JSON_VALID(filter)),
        text MEDIUMTEXT NULL,
        created_at DATETIME(3) NOT NULL,
        INDEX (collection_id, created_at))",
    "CREATE TABLE IF NOT EXISTS observed (
        collection_id BIGINT NOT NULL,
        index_name VARCHAR(64) NOT NULL,
        at DATETIME NOT NULL,
        n BIGINT NOT NULL,
        sum DOUBLE NOT NULL,
        squares DOUBLE NOT NULL,
        PRIMARY KEY (collection_id, index_name, at))",
];

#[async_trait::async_trait]
impl MigrationTrait for Measuring {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        for statement in MEASURING {
            let options = match statement.starts_with("CREATE") {
                true => "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
                false => "",
            };
            manager.get_connection().execute_unprepared(&format!("{statement} {options}")).await?;
        }
        Ok(())
    }
}

const COMPARING: &str = "CREATE TABLE IF NOT EXISTS compared (
        comparison_id BIGINT NOT NULL,
        position BIGINT NOT NULL,
        difference DOUBLE NOT NULL,
        figures LONGTEXT NOT NULL CHECK (JSON_VALID(figures)),
        left_hits MEDIUMBLOB NOT NULL,
        right_hits MEDIUMBLOB NOT NULL,
        verdict VARCHAR(16) NULL,
        PRIMARY KEY (comparison_id, position)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin";

const SAVING: [&str; 4] = [
    "CREATE TABLE IF NOT EXISTS saved_searches (
        collection_id BIGINT NOT NULL,
        name VARCHAR(64) NOT NULL,
        live INT NULL,
        newest INT NOT NULL,
        PRIMARY KEY (collection_id, name)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    "CREATE TABLE IF NOT EXISTS saved_versions (
        collection_id BIGINT NOT NULL,
        name VARCHAR(64) NOT NULL,
        version INT NOT NULL,
        definition LONGTEXT NOT NULL CHECK (JSON_VALID(definition)),
        made_at DATETIME(3) NOT NULL,
        made_by VARCHAR(64) NOT NULL,
        PRIMARY KEY (collection_id, name, version)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    "ALTER TABLE access_keys
        ADD COLUMN IF NOT EXISTS searches LONGTEXT NULL CHECK (searches IS NULL OR JSON_VALID(searches))",
    "ALTER TABLE observed ADD COLUMN IF NOT EXISTS saved VARCHAR(64) NOT NULL DEFAULT '',
        DROP PRIMARY KEY, ADD PRIMARY KEY (collection_id, index_name, saved, at)",
];

const LIFECYCLE: &str = "ALTER TABLE collections
        ADD COLUMN IF NOT EXISTS hidden VARCHAR(16) NULL,
        ADD COLUMN IF NOT EXISTS hidden_at DATETIME(3) NULL,
        ADD COLUMN IF NOT EXISTS hidden_by VARCHAR(64) NULL,
        ADD COLUMN IF NOT EXISTS own_name VARCHAR(64) NULL";

const KNOWN_TEXT: &str = "ALTER TABLE encoders ADD COLUMN IF NOT EXISTS known_vector MEDIUMBLOB NULL";

const DONE_ONCE: &str = "CREATE TABLE IF NOT EXISTS once (
        key_id BIGINT NOT NULL,
        name CHAR(64) NOT NULL,
        request TEXT NOT NULL,
        node VARCHAR(64) NOT NULL,
        begun_at DATETIME(3) NOT NULL,
        status SMALLINT NULL,
        media VARCHAR(200) NULL,
        body MEDIUMBLOB NULL,
        digest CHAR(64) NULL,
        PRIMARY KEY (key_id, name),
        INDEX (begun_at)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin";

/// A second run, after one that broke off, finds everything or nothing moved.
const VECTORS_IN_BLOCKS: [&str; 4] = [
    "CREATE TABLE IF NOT EXISTS vector_blocks (
        column_id BIGINT NOT NULL,
        block BIGINT NOT NULL,
        taken TINYINT UNSIGNED NOT NULL,
        data MEDIUMBLOB NOT NULL,
        PRIMARY KEY (column_id, block)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    "CREATE TABLE IF NOT EXISTS vectors (
        column_id BIGINT NOT NULL,
        number BIGINT NOT NULL,
        data MEDIUMBLOB NOT NULL,
        PRIMARY KEY (column_id, number)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    "SET STATEMENT group_concat_max_len = 8388608 FOR
        REPLACE INTO vector_blocks (column_id, block, taken, data)
        SELECT column_id, number DIV 8, BIT_OR(1 << (number MOD 8)), GROUP_CONCAT(data ORDER BY number SEPARATOR '')
        FROM vectors GROUP BY column_id, number DIV 8",
    "DROP TABLE vectors",
];

struct Access;

impl MigrationName for Access {
    fn name(&self) -> &str {
        "m0007_access"
    }
}

/// Keys of before could do everything, and still can. Browsers sign in again: their tickets do not say by which secret.
const ACCESS: [&str; 5] = [
    "ALTER TABLE access_keys
        ADD COLUMN IF NOT EXISTS scopes VARCHAR(100) NOT NULL DEFAULT 'search,read,write,tune,manage',
        ADD COLUMN IF NOT EXISTS collections LONGTEXT NULL CHECK (collections IS NULL OR JSON_VALID(collections)),
        ADD COLUMN IF NOT EXISTS filter TEXT NULL,
        ADD COLUMN IF NOT EXISTS `values` LONGTEXT NULL CHECK (`values` IS NULL OR JSON_VALID(`values`)),
        ADD COLUMN IF NOT EXISTS key_prefix VARCHAR(64) NULL,
        ADD COLUMN IF NOT EXISTS requests_per_s INT UNSIGNED NULL,
        ADD COLUMN IF NOT EXISTS body_bytes BIGINT NULL,
        ADD COLUMN IF NOT EXISTS expires_at DATETIME(3) NULL,
        ADD COLUMN IF NOT EXISTS created_by VARCHAR(64) NULL,
        ADD COLUMN IF NOT EXISTS last_used_at DATETIME(3) NULL,
        ADD COLUMN IF NOT EXISTS last_used_from VARCHAR(64) NULL",
    "CREATE TABLE IF NOT EXISTS access_secrets (
        hash CHAR(64) NOT NULL PRIMARY KEY,
        key_id BIGINT NOT NULL,
        created_at DATETIME(3) NOT NULL,
        ends_at DATETIME(3) NULL,
        INDEX (key_id)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    "CREATE TABLE IF NOT EXISTS audit (
        id BIGINT AUTO_INCREMENT PRIMARY KEY,
        at DATETIME(3) NOT NULL,
        key_name VARCHAR(64) NOT NULL,
        method VARCHAR(16) NOT NULL,
        path VARCHAR(500) NOT NULL,
        status SMALLINT NOT NULL,
        came_from VARCHAR(64) NOT NULL,
        request_id VARCHAR(100) NOT NULL,
        INDEX (at)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin",
    "DELETE FROM access_tickets",
    "ALTER TABLE access_tickets ADD COLUMN IF NOT EXISTS secret CHAR(64) NOT NULL DEFAULT ''",
];

#[async_trait::async_trait]
impl MigrationTrait for Access {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let db = manager.get_connection();
        for statement in ACCESS {
            db.execute_unprepared(statement).await?;
        }
        if manager.has_column("access_keys", "hash").await? {
            let copy = "INSERT IGNORE INTO access_secrets SELECT hash, id, created_at, NULL FROM access_keys";
            db.execute_unprepared(copy).await?;
            db.execute_unprepared("ALTER TABLE access_keys DROP COLUMN hash").await?;
        }
        Ok(())
    }
}
