//! Builds the console's files into the server again whenever they change.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
