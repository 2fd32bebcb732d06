//! Options of `zesty index`, `zesty recipe` and `zesty serving`.

use clap::{Args, Subcommand};

#[derive(Args)]
pub struct ServingArgs {
    pub collection: String,
    #[arg(long, required_unless_present = "exact", conflicts_with = "exact")]
    pub index: Option<String>,
    /// Graphs: candidates that a walk keeps, 1 to 10000
    #[arg(long)]
    pub beam: Option<usize>,
    /// Cells: how many to visit, 1 to 100000
    #[arg(long)]
    pub visit: Option<usize>,
    /// With rescore in the recipe: re-rank this many times k candidates, 1 to 100
    #[arg(long)]
    pub rescore: Option<usize>,
    /// In place of settings: those that the newest target of the index measured for this recall, such as 0.95
    #[arg(long, conflicts_with_all = ["beam", "visit", "rescore", "exact"])]
    pub recall: Option<f64>,
    /// Answer by the exact scan
    #[arg(long)]
    pub exact: bool,
    /// Vector column [default: the collection's default column]
    #[arg(long)]
    pub column: Option<String>,
}

#[derive(Subcommand)]
pub enum IndexCommand {
    /// Build an index from a recipe and watch it
    #[command(
        after_help = "Examples:\n  zesty index build logbook 'graph(links=16, build=200)'\n  zesty index build logbook 'graph | int8 | rescore(f32)'\n  zesty index build logbook 'auto(recall=0.99, memory=200)'"
    )]
    Build {
        collection: String,
        /// Stages between |, such as 'graph | int8 | rescore(f32)', or a JSON object. With auto the service chooses
        #[arg(default_value = "auto")]
        recipe: String,
        /// Made from the recipe when absent
        #[arg(long)]
        name: Option<String>,
        #[arg(long)]
        column: Option<String>,
        /// The same recipe, data, seed and one thread give the same index
        #[arg(long)]
        seed: Option<u64>,
        #[arg(long)]
        threads: Option<usize>,
        /// Return at once. The job continues
        #[arg(long)]
        background: bool,
    },
    /// List indexes with their sizes and coverage
    #[command(after_help = "Example:\n  zesty index list logbook")]
    List { collection: String },
    /// Add to an index what was written since it was built. The service also does so by itself
    #[command(after_help = "Example:\n  zesty index absorb logbook graph-1")]
    Absorb { collection: String, index: String },
    /// Put an index out of memory on all nodes; its file stays
    #[command(after_help = "Example:\n  zesty index unload logbook graph-1")]
    Unload { collection: String, index: String },
    /// Take an index into memory again
    #[command(after_help = "Example:\n  zesty index load logbook graph-1")]
    Load { collection: String, index: String },
    /// Drop an index
    #[command(after_help = "Example:\n  zesty index drop logbook graph-1")]
    Drop { collection: String, index: String },
}

#[derive(Subcommand)]
pub enum RecipeCommand {
    /// Explain a recipe stage by stage, with its expected memory and build time
    #[command(
        after_help = "Examples:\n  zesty recipe explain 'graph | int8 | rescore(f32)' --collection logbook\n  zesty recipe explain 'cells(1024) | pq(48)' --rows 1000000 --dimensions 384"
    )]
    Explain {
        recipe: String,
        /// Take rows, dimensions and metric from a collection
        #[arg(long, required_unless_present_all = ["rows", "dimensions"])]
        collection: Option<String>,
        #[arg(long, requires = "collection")]
        column: Option<String>,
        #[arg(long)]
        rows: Option<usize>,
        #[arg(long)]
        dimensions: Option<usize>,
        /// cosine, euclidean or dot
        #[arg(long)]
        metric: Option<String>,
    },
}
