//! The console's built files are part of the program: built anew, it is too.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
