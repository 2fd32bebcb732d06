//! One module for each table, as SeaORM wants them.

pub mod encoder {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "encoders")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub name: String,
        pub url: String,
        pub model: String,
        pub dimensions: u32,
        pub created_at: DateTimeUtc,
        /// What it makes of the known text: little-endian f32. Absent for encoders that were named before this was kept.
        pub known_vector: Option<Vec<u8>>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod access_key {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "access_keys")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub name: String,
        pub created_at: DateTimeUtc,
        /// Words with commas between them.
        pub scopes: String,
        /// Names, as JSON; all collections when absent.
        pub collections: Option<Json>,
        pub filter: Option<String>,
        /// An object, as JSON.
        pub values: Option<Json>,
        pub key_prefix: Option<String>,
        /// Names of saved searches, as JSON; all when absent.
        pub searches: Option<Json>,
        pub requests_per_s: Option<u32>,
        /// Of one request.
        pub body_bytes: Option<i64>,
        pub expires_at: Option<DateTimeUtc>,
        pub created_by: Option<String>,
        pub last_used_at: Option<DateTimeUtc>,
        pub last_used_from: Option<String>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod access_ticket {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "access_tickets")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub hash: String,
        pub kind: String,
        pub key_id: i64,
        /// The hash of the secret that it was made with, which it ends with.
        pub secret: String,
        pub expires_at: DateTimeUtc,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod access_secret {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "access_secrets")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub hash: String,
        pub key_id: i64,
        pub created_at: DateTimeUtc,
        /// After a rotation; never when absent.
        pub ends_at: Option<DateTimeUtc>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod audit {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "audit")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub at: DateTimeUtc,
        pub key_name: String,
        pub method: String,
        pub path: String,
        pub status: i16,
        pub came_from: String,
        pub request_id: String,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod collection {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "collections")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub name: String,
        pub description: String,
        pub fields: Json,
        pub revision: i64,
        pub next_number: i64,
        /// Counts changes of fields and columns: what tells a node that its picture is old.
        pub shape: i64,
        /// Counts changes of indexes and serving choices.
        pub choices: i64,
        /// The column that searches use when they name none.
        pub default_column: Option<String>,
        pub written_at: Option<DateTimeUtc>,
        pub created_at: DateTimeUtc,
        /// `dropped` or `cloning`; absent for what is there.
        pub hidden: Option<String>,
        pub hidden_at: Option<DateTimeUtc>,
        /// The key that dropped it, or the node that clones it.
        pub hidden_by: Option<String>,
        /// What it was called before it was dropped.
        pub own_name: Option<String>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod vector_column {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "vector_columns")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub collection_id: i64,
        pub name: String,
        pub dimensions: u32,
        pub metric: String,
        pub encoder: Option<String>,
        pub template: Option<String>,
        pub serving: Option<Json>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod record {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "records")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub collection_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub number: i64,
        pub key: String,
        pub revision: i64,
        pub deleted: bool,
        pub body: Json,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

/// See [`crate::vectors`].
pub mod vector_block {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "vector_blocks")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub column_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub block: i64,
        pub taken: u8,
        pub data: Vec<u8>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod index {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "indexes")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub collection_id: i64,
        pub column_id: i64,
        pub name: String,
        pub recipe: String,
        pub state: String,
        pub revision: i64,
        pub n_rows: i64,
        pub n_bytes: i64,
        pub build_seconds: f64,
        pub seed: i64,
        pub error: Option<String>,
        pub created_at: DateTimeUtc,
        /// The node that builds it.
        pub node: String,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod job {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "jobs")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub kind: String,
        pub collection: String,
        pub subject: String,
        pub state: String,
        pub node: String,
        pub result: Option<Json>,
        pub error: Option<String>,
        pub created_at: DateTimeUtc,
        pub finished_at: Option<DateTimeUtc>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod query_set {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "query_sets")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub collection_id: i64,
        pub column_id: i64,
        pub name: String,
        /// How its queries came about.
        pub spec: Json,
        pub n_queries: i64,
        /// The revision of the collection that they were drawn from.
        pub revision: i64,
        pub difficulty: Option<Json>,
        pub created_at: DateTimeUtc,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod query {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "queries")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub set_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub position: i64,
        /// Prepared, little-endian f32.
        pub vector: Vec<u8>,
        /// The record that it is.
        pub number: Option<i64>,
        pub text: Option<String>,
        pub filter: Option<Json>,
        /// Keys known to be right, with a grade each.
        pub relevant: Option<Json>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod answers {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "exact_answers")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub set_id: i64,
        pub k: i32,
        pub revision: i64,
        /// The share of the records that was held out.
        pub share: f64,
        pub n_rows: i64,
        pub seconds: f64,
        pub created_at: DateTimeUtc,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod answer {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "exact_neighbours")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub answers_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub position: i64,
        /// Nearest first: a record number (u64) and a rank (f32) each, little-endian.
        pub neighbours: Vec<u8>,
        pub typical: f32,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod measurement {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "measurements")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub collection_id: i64,
        pub column_id: i64,
        /// `sweep`, `target`, `comparison` or `advice`
        pub kind: String,
        pub spec: Json,
        pub result: Json,
        pub created_at: DateTimeUtc,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod compared {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "compared")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub comparison_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub position: i64,
        pub difference: f64,
        pub figures: Json,
        /// Record numbers and ranks.
        pub left_hits: Vec<u8>,
        pub right_hits: Vec<u8>,
        pub verdict: Option<String>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod watch {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "watches")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub collection_id: i64,
        pub spec: Json,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod saved_search {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "saved_searches")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub collection_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub name: String,
        /// The version that answers; none for a draft.
        pub live: Option<i32>,
        pub newest: i32,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod saved_version {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "saved_versions")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub collection_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub name: String,
        /// From 1.
        #[sea_orm(primary_key, auto_increment = false)]
        pub version: i32,
        pub definition: Json,
        pub made_at: DateTimeUtc,
        pub made_by: String,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod captured {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "captured")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub collection_id: i64,
        pub column_id: i64,
        /// Prepared, little-endian f32.
        pub vector: Vec<u8>,
        pub k: i32,
        pub filter: Option<Json>,
        pub text: Option<String>,
        pub created_at: DateTimeUtc,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod observed {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "observed")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub collection_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub index_name: String,
        /// The saved search; empty for others.
        #[sea_orm(primary_key, auto_increment = false)]
        pub saved: String,
        /// A minute.
        #[sea_orm(primary_key, auto_increment = false)]
        pub at: DateTimeUtc,
        pub n: i64,
        /// Of the recalls, and of their squares.
        pub sum: f64,
        pub squares: f64,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod load {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "loads")]
    pub struct Model {
        #[sea_orm(primary_key)]
        pub id: i64,
        pub collection_id: i64,
        pub collection: String,
        pub node: String,
        pub job_id: i64,
        pub spec: Json,
        pub state: String,
        /// Rows of the files that are behind it: committed or set aside.
        pub position: i64,
        pub n_new: i64,
        pub n_replaced: i64,
        pub n_unchanged: i64,
        pub n_rejected: i64,
        pub n_unencoded: i64,
        /// Bytes of the rejects file that belong to committed steps.
        pub rejects_bytes: i64,
        pub n_before: i64,
        pub error: Option<String>,
        pub created_at: DateTimeUtc,
        pub finished_at: Option<DateTimeUtc>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod unencoded {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "unencoded")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub column_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub number: i64,
        pub reason: String,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod fill {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "fills")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub collection_id: i64,
        #[sea_orm(primary_key, auto_increment = false)]
        pub revision: i64,
        pub column_id: i64,
        /// Record numbers, little-endian i64.
        pub numbers: Vec<u8>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod once {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "once")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub key_id: i64,
        /// The hash of what the caller called the request.
        #[sea_orm(primary_key, auto_increment = false)]
        pub name: String,
        /// Method and address.
        pub request: String,
        pub node: String,
        pub begun_at: DateTimeUtc,
        /// Of the answer; absent while the request runs.
        pub status: Option<i16>,
        pub media: Option<String>,
        pub body: Option<Vec<u8>>,
        /// The hash of the request's body.
        pub digest: Option<String>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}

pub mod discarded {
    use sea_orm::entity::prelude::*;

    #[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
    #[sea_orm(table_name = "discarded")]
    pub struct Model {
        #[sea_orm(primary_key, auto_increment = false)]
        pub kind: String,
        #[sea_orm(primary_key, auto_increment = false)]
        pub id: i64,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    pub enum Relation {}
    impl ActiveModelBehavior for ActiveModel {}
}
