mod samples;
fn main() {
    for n in [30_000_000usize] {
        samples::run(n);
    }
}
