//! The console's built files are part of the program: if they change, it is built again.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
