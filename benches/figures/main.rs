mod samples;
fn main(){ 
    for n in [10_000_000usize, 100_000_000] { samples::run(n); }
}
