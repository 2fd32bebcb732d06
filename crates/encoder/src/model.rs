//! Word vectors from co-occurrence, and texts as weighted sums of them.
//!
//! Positive pointwise mutual information of words that stand near each other, factored by a
//! truncated eigendecomposition (Levy and Goldberg, 2014); a text is the sum of its words weighted
//! by rarity, less what all texts share (Arora, Liang and Ma, 2017). Unknown and misspelt words
//! are guessed from the character n-grams of known ones (after Bojanowski et al., 2017).

use faer::{Mat, Side};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use safetensors::SafeTensors;
use safetensors::tensor::{Dtype, TensorView};
use std::collections::{BTreeMap, HashMap};
use std::io;
use std::path::Path;

/// Raised when the way of learning changes, so that caches are made again.
const VERSION: u32 = 1;
const WINDOW: usize = 10;
const LEAST_COUNT: usize = 2;

#[derive(Clone, Copy, Debug)]
pub struct Size {
    pub name: &'static str,
    pub dimensions: usize,
}

pub struct Model {
    pub name: String,
    pub dimensions: usize,
    words: HashMap<String, usize>,
    /// `[words, dimensions]`, already weighted by rarity.
    vectors: Vec<f32>,
    /// What all texts share: removed from each.
    common: Vec<f32>,
    ngrams: HashMap<String, Vec<usize>>,
}

/// Lowercase words; everything but letters and digits separates.
pub fn words(text: &str) -> impl Iterator<Item = String> {
    text.split(|c: char| !c.is_alphanumeric() && c != '\'')
        .map(|w| w.trim_matches('\'').to_lowercase())
        .filter(|w| !w.is_empty())
}

fn ngrams(word: &str) -> Vec<String> {
    let marked: Vec<char> = format!("<{word}>").chars().collect();
    (3..=5).flat_map(|n| marked.windows(n).map(|w| w.iter().collect()).collect::<Vec<_>>()).collect()
}

impl Model {
    pub fn load_or_learn(notes: &[String], sizes: &[Size], cache: Option<&Path>) -> io::Result<Vec<Model>> {
        let mut sum = crc32fast::Hasher::new();
        notes.iter().for_each(|n| sum.update(n.as_bytes()));
        let sum = sum.finalize();
        let path = |s: &Size| cache.map(|c| c.join(format!("{}-{sum:08x}-v{VERSION}.safetensors", s.name)));
        let cached: Vec<Model> = sizes.iter().filter_map(|s| load(s, &path(s)?)).collect();
        if cached.len() == sizes.len() {
            return Ok(cached);
        }
        let models = learn(notes, sizes);
        if let Some(folder) = cache {
            std::fs::create_dir_all(folder)?;
            for (model, size) in models.iter().zip(sizes) {
                let path = path(size).expect("the cache folder is known");
                let partial = path.with_extension("partial");
                std::fs::write(&partial, model.to_bytes())?;
                std::fs::rename(partial, path)?;
            }
        }
        Ok(models)
    }

    fn to_bytes(&self) -> Vec<u8> {
        let mut ordered: Vec<(&String, &usize)> = self.words.iter().collect();
        ordered.sort_by_key(|(_, i)| **i);
        let list: Vec<&String> = ordered.into_iter().map(|(w, _)| w).collect();
        let view = |v: &'static str, shape: Vec<usize>, data| {
            (v, TensorView::new(Dtype::F32, shape, data).expect("the shape fits the data"))
        };
        let n = list.len();
        let tensors = [
            view("vectors", vec![n, self.dimensions], bytemuck::cast_slice(&self.vectors)),
            view("common", vec![self.dimensions], bytemuck::cast_slice(&self.common)),
        ];
        let meta = HashMap::from([("words".into(), serde_json::to_string(&list).expect("plain data"))]);
        safetensors::serialize(tensors, Some(meta)).expect("plain data")
    }

    fn new(name: &str, dimensions: usize, list: Vec<String>, vectors: Vec<f32>, common: Vec<f32>) -> Model {
        let mut grams: HashMap<String, Vec<usize>> = HashMap::new();
        for (i, word) in list.iter().enumerate() {
            for gram in ngrams(word) {
                grams.entry(gram).or_default().push(i);
            }
        }
        let words = list.into_iter().enumerate().map(|(i, w)| (w, i)).collect();
        Model { name: name.into(), dimensions, words, vectors, common, ngrams: grams }
    }

    fn row(&self, word: usize) -> &[f32] {
        &self.vectors[word * self.dimensions..][..self.dimensions]
    }

    /// Adds the vector of a word: its own, or a guess from the known words spelt most alike.
    fn add_word(&self, word: &str, to: &mut [f32]) {
        if let Some(&i) = self.words.get(word) {
            to.iter_mut().zip(self.row(i)).for_each(|(t, v)| *t += v);
            return;
        }
        let grams = ngrams(word);
        let mut shared: BTreeMap<usize, f32> = BTreeMap::new();
        for gram in &grams {
            for &i in self.ngrams.get(gram).map_or(&[][..], |l| l) {
                *shared.entry(i).or_default() += 1.0 / grams.len() as f32;
            }
        }
        let mut alike: Vec<(usize, f32)> = shared.into_iter().filter(|(_, s)| *s >= 0.2).collect();
        alike.sort_by(|a, b| b.1.total_cmp(&a.1).then(a.0.cmp(&b.0)));
        alike.truncate(3);
        let total: f32 = alike.iter().map(|(_, s)| s * s).sum();
        for (i, s) in alike {
            to.iter_mut().zip(self.row(i)).for_each(|(t, v)| *t += v * s * s / total);
        }
    }

    /// The unit vector of a text. A text without one recognisable word gets a direction of its own,
    /// drawn from its characters.
    pub fn encode(&self, text: &str) -> Vec<f32> {
        let mut sum = vec![0.0f32; self.dimensions];
        words(text).for_each(|w| self.add_word(&w, &mut sum));
        let share: f32 = sum.iter().zip(&self.common).map(|(a, b)| a * b).sum();
        sum.iter_mut().zip(&self.common).for_each(|(s, c)| *s -= share * c);
        if !normalise(&mut sum) {
            let mut rng = ChaCha8Rng::seed_from_u64(u64::from(crc32fast::hash(text.as_bytes())));
            sum.iter_mut().for_each(|s| *s = rng.random_range(-1.0..1.0));
            normalise(&mut sum);
        }
        sum
    }
}

fn normalise(v: &mut [f32]) -> bool {
    let length = v.iter().map(|x| x * x).sum::<f32>().sqrt();
    if length > 1e-12 {
        v.iter_mut().for_each(|x| *x /= length);
    }
    length > 1e-12
}

fn load(size: &Size, path: &Path) -> Option<Model> {
    let bytes = std::fs::read(path).ok()?;
    let (_, meta) = SafeTensors::read_metadata(&bytes).ok()?;
    let list: Vec<String> = serde_json::from_str(meta.metadata().as_ref()?.get("words")?).ok()?;
    let tensors = SafeTensors::deserialize(&bytes).ok()?;
    let floats = |name: &str| -> Option<Vec<f32>> {
        Some(bytemuck::pod_collect_to_vec(tensors.tensor(name).ok()?.data()))
    };
    let (vectors, common) = (floats("vectors")?, floats("common")?);
    (vectors.len() == list.len() * size.dimensions && common.len() == size.dimensions)
        .then(|| Model::new(size.name, size.dimensions, list, vectors, common))
}

fn learn(notes: &[String], sizes: &[Size]) -> Vec<Model> {
    let texts: Vec<Vec<String>> = notes.iter().map(|n| words(n).collect()).collect();
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    texts.iter().flatten().for_each(|w| *counts.entry(w).or_default() += 1);
    let list: Vec<&str> = counts.iter().filter(|(_, c)| **c >= LEAST_COUNT).map(|(w, _)| *w).collect();
    let number: HashMap<&str, usize> = list.iter().enumerate().map(|(i, w)| (*w, i)).collect();
    let n = list.len();

    // Near neighbours count more than far ones.
    let mut pairs: HashMap<(u32, u32), f64> = HashMap::new();
    for text in &texts {
        let known: Vec<u32> = text.iter().filter_map(|w| number.get(w.as_str()).map(|&i| i as u32)).collect();
        for (i, &a) in known.iter().enumerate() {
            for (gap, &b) in known[i + 1..].iter().take(WINDOW).enumerate() {
                if a != b {
                    *pairs.entry((a.min(b), a.max(b))).or_default() += 1.0 / (1.0 + gap as f64 / 3.0);
                }
            }
        }
    }
    // In order: sums of floats depend on it, and a hash map's is another in every process.
    let mut pairs: Vec<((u32, u32), f64)> = pairs.into_iter().collect();
    pairs.sort_by_key(|(pair, _)| *pair);
    let mut margin = vec![0.0; n];
    for &((a, b), c) in &pairs {
        margin[a as usize] += c;
        margin[b as usize] += c;
    }
    // Contexts are smoothed by the power 3/4, which tames the love of rare pairs for each other.
    let total: f64 = margin.iter().sum();
    let smooth_total: f64 = margin.iter().map(|m| m.powf(0.75)).sum();
    let mut cells: Vec<(u32, u32, f64)> = Vec::with_capacity(pairs.len());
    for &((a, b), c) in &pairs {
        let expected =
            |x: u32, y: u32| margin[x as usize] / total * margin[y as usize].powf(0.75) / smooth_total;
        let information = (c / total / (expected(a, b) * expected(b, a)).sqrt()).ln();
        if information > 0.0 {
            cells.push((a, b, information));
        }
    }

    let widest = sizes.iter().map(|s| s.dimensions).max().unwrap_or(0);
    let (values, basis) = leading(&cells, n, widest);
    sizes
        .iter()
        .map(|size| {
            let d = size.dimensions;
            let occurrences: usize = texts.iter().map(Vec::len).sum();
            let mut vectors = vec![0.0f32; n * d];
            for (i, row) in vectors.chunks_mut(d).enumerate() {
                for (j, x) in row.iter_mut().enumerate().take(values.len()) {
                    *x = (basis[(i, j)] * values[j].abs().sqrt()) as f32;
                }
                normalise(row);
                let frequency = counts[list[i]] as f32 / occurrences as f32;
                let weight = 1e-3 / (1e-3 + frequency);
                row.iter_mut().for_each(|x| *x *= weight);
            }
            let owned = list.iter().map(|w| (*w).to_owned()).collect();
            let mut model = Model::new(size.name, d, owned, vectors, vec![0.0; d]);
            // The mean direction of texts is what they share.
            let mut common = vec![0.0; d];
            for note in notes.iter().step_by((notes.len() / 4000).max(1)) {
                common.iter_mut().zip(model.encode(note)).for_each(|(c, x)| *c += x);
            }
            normalise(&mut common);
            model.common = common;
            model
        })
        .collect()
}

/// The leading eigenvalues (by magnitude) and eigenvectors of a sparse symmetric matrix, by
/// subspace iteration (Halko, Martinsson and Tropp, 2011). Fewer than `want` when `n` is smaller.
fn leading(cells: &[(u32, u32, f64)], n: usize, want: usize) -> (Vec<f64>, Mat<f64>) {
    let width = (want + 16).min(n);
    if width == 0 {
        return (Vec::new(), Mat::zeros(n, 0));
    }
    let times = |x: &Mat<f64>| -> Mat<f64> {
        let mut y = Mat::<f64>::zeros(n, x.ncols());
        for j in 0..x.ncols() {
            let from = x.col(j);
            let mut to = y.col_mut(j);
            for &(a, b, v) in cells {
                let (a, b) = (a as usize, b as usize);
                to[a] += v * from[b];
                to[b] += v * from[a];
            }
        }
        y
    };
    let mut rng = ChaCha8Rng::seed_from_u64(11);
    let mut y = times(&Mat::from_fn(n, width, |_, _| rng.random_range(-1.0..1.0)));
    for _ in 0..4 {
        y = times(&y.qr().compute_thin_Q());
    }
    let q = y.qr().compute_thin_Q();
    let small = q.transpose() * times(&q);
    let eigen = small.self_adjoint_eigen(Side::Lower).expect("a finite symmetric matrix has eigenvalues");
    let values = eigen.S().column_vector();
    let mut order: Vec<usize> = (0..width).collect();
    order.sort_by(|&a, &b| values[b].abs().total_cmp(&values[a].abs()));
    order.truncate(want);
    let vectors = &q * eigen.U();
    let basis = Mat::from_fn(n, order.len(), |i, j| vectors[(i, order[j])]);
    (order.iter().map(|&i| values[i]).collect(), basis)
}
