//! Builds the service anew when the built console has changed, as it stands inside the program.

fn main() {
    println!("cargo::rerun-if-changed=../../console/dist");
}
