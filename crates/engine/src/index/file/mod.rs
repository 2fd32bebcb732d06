//! Index files: safetensors whose tensors `docs/index-file.md` describes. Beside the checksums, the metadata names the
//! format version, the description and the entry node.

mod read;
mod version;
mod write;

pub use version::FORMAT_VERSION;
