//! How the program is linked where it is built for tests.

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    // Trials start the program thousands of times. Wherever it is loaded each time, it has 360,000 addresses to mend in itself before its
    // first line: half of what `--version` took. The program that people get is loaded wherever it comes, as it should.
    if std::env::var("PROFILE").is_ok_and(|profile| profile == "debug") {
        println!("cargo::rustc-link-arg-bins=-no-pie");
    }
}
