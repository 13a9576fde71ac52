//! Frames as 64-bit words, out of which codes are cut: one load serves all codes around it.

/// Up to eight neighbouring bytes of a frame as one number. Frames shorter than eight bytes are filled up, with
/// zeros or with what follows them: no cut looks there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Word {
    /// First byte in the frame; eight bytes follow, or the whole frame from its beginning where that is shorter.
    from: usize,
    /// The byte of the lowest index is the least significant.
    low_first: bool,
}

/// Neighbouring bytes that hold a code, and where in them it stands.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Run {
    pub(crate) at: usize,
    pub(crate) len: usize,
    pub(crate) low_first: bool,
    /// Bits to drop on the right.
    pub(crate) shift: u32,
    pub(crate) width: u32,
    pub(crate) signed: bool,
}

/// Most words of a frame; codes beyond them are gathered byte by byte.
pub(crate) const MOST_WORDS: usize = 8;

/// The words of the frames of one length, [`MOST_WORDS`] at most.
#[derive(Clone, Debug)]
pub(crate) struct Words {
    length: usize,
    words: Vec<Word>,
}

impl Words {
    /// None yet, of frames of `length` bytes.
    pub(crate) fn new(length: usize) -> Self {
        Self { length, words: Vec::new() }
    }

    /// Bytes of a frame.
    pub(crate) fn length(&self) -> usize {
        self.length
    }

    /// The words of a frame, and zeros.
    #[inline(always)]
    pub(crate) fn of(&self, frame: &[u8]) -> [u64; MOST_WORDS] {
        let mut all = [0; MOST_WORDS];
        match self.words.as_slice() {
            [word] => all[0] = word.of(frame),
            words => several(&mut all, words, frame),
        }
        all
    }

    pub(crate) fn get(&self, index: usize) -> Option<Word> {
        self.words.get(index).copied()
    }

    pub(crate) fn iter(&self) -> impl ExactSizeIterator<Item = Word> {
        self.words.iter().copied()
    }

    /// How to cut out a code: of a word that is there, or of one more. `None` where it does not stand in the frame.
    pub(crate) fn cut(&mut self, run: Run) -> Option<Cut> {
        if run.at + run.len > self.length || run.len > 8 {
            return None;
        }
        let holds = |word: &Word| {
            let order = run.len == 1 || word.low_first == run.low_first;
            order && word.from <= run.at && run.at + run.len <= word.from + 8
        };
        let index = self.words.iter().position(holds).unwrap_or_else(|| {
            self.words.push(Word { from: run.at.min(self.length.saturating_sub(8)), low_first: run.low_first });
            self.words.len() - 1
        });
        self.words.truncate(MOST_WORDS);
        let word = self.words.get(index)?;
        let behind = if word.low_first { run.at - word.from } else { word.from + 8 - run.at - run.len };
        Some(Cut {
            place: Place { word: index, shift: run.shift + 8 * behind as u32, mask: u64::MAX >> (64 - run.width) },
            sign: if run.signed { 1 << (run.width - 1) } else { 0 },
        })
    }
}

/// Apart, since most frames are one word, and their way is to stay short.
#[inline(never)]
fn several(all: &mut [u64; MOST_WORDS], words: &[Word], frame: &[u8]) {
    all.iter_mut().zip(words).for_each(|(place, word)| *place = word.of(frame));
}

impl Word {
    /// The word of a frame.
    #[inline(always)]
    pub(crate) fn of(self, frame: &[u8]) -> u64 {
        let bytes = frame.get(self.from..).unwrap_or(&[]);
        let word = bytes.first_chunk().map_or_else(|| short(bytes), |bytes| u64::from_be_bytes(*bytes));
        if self.low_first { word.swap_bytes() } else { word }
    }

    /// Whether all of some bytes are in the word; if so, how many of it stand before them.
    pub(crate) fn before(self, at: usize, len: usize) -> Option<usize> {
        at.checked_sub(self.from).filter(|before| before + len <= 8)
    }

    /// The words of frames that follow one another, as many as there is room for. `each` is shown every one, its first
    /// byte most significant.
    #[inline(always)]
    pub(crate) fn load(self, frames: &[u8], length: usize, words: &mut [u64], mut each: impl FnMut(usize, u64)) {
        if self.low_first {
            self.load_as(frames, length, words, u64::swap_bytes, &mut each);
        } else {
            self.load_as(frames, length, words, |word| word, &mut each);
        }
    }

    #[inline(always)]
    fn load_as(self, frames: &[u8], length: usize, words: &mut [u64], order: impl Fn(u64) -> u64, each: &mut impl FnMut(usize, u64)) {
        let mut rest = frames.get(self.from..).unwrap_or(&[]);
        for (lane, place) in words.iter_mut().enumerate() {
            let word = match rest.first_chunk() {
                Some(bytes) => u64::from_be_bytes(*bytes),
                // Of frames shorter than a word the last has no eight bytes any more.
                None => last(rest),
            };
            *place = order(word);
            each(lane, word);
            rest = rest.get(length..).unwrap_or(&[]);
        }
    }
}

/// Fewer than eight bytes as the top of a word. The two loads overlap, and say the same where they do.
#[inline]
fn short(bytes: &[u8]) -> u64 {
    let rest = 64 - 8 * bytes.len().min(8) as u32;
    if let (Some(head), Some(tail)) = (bytes.first_chunk(), bytes.last_chunk()) {
        u64::from(u32::from_be_bytes(*head)) << 32 | u64::from(u32::from_be_bytes(*tail)) << rest
    } else if let (Some(head), Some(tail)) = (bytes.first_chunk(), bytes.last_chunk()) {
        u64::from(u16::from_be_bytes(*head)) << 48 | u64::from(u16::from_be_bytes(*tail)) << rest
    } else {
        bytes.first().map_or(0, |byte| u64::from(*byte) << 56)
    }
}

/// The same out of the loop over many frames, in which it is needed for the last ones alone.
#[cold]
#[inline(never)]
fn last(bytes: &[u8]) -> u64 {
    short(bytes)
}

/// The bits of a code in a word.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Place {
    /// Index of the word.
    word: usize,
    shift: u32,
    /// As many ones as there are bits, right-aligned.
    mask: u64,
}

impl Place {
    /// Its word, of all words of a frame.
    #[inline(always)]
    pub(crate) fn word(self, words: &[u64; MOST_WORDS]) -> u64 {
        words[self.word % MOST_WORDS]
    }

    /// The column of its words.
    pub(crate) fn column(self, words: &[Vec<u64>]) -> Option<&[u64]> {
        words.get(self.word).map(Vec::as_slice)
    }

    #[inline(always)]
    fn bits(self, word: u64) -> u64 {
        (word >> (self.shift & 63)) & self.mask
    }

    fn width(self) -> u32 {
        self.mask.count_ones()
    }
}

/// How a code is cut out of its word.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Cut {
    pub(crate) place: Place,
    /// Its sign bit; 0 where it has none.
    sign: u64,
}

impl Cut {
    #[inline(always)]
    pub(crate) fn code(self, word: u64) -> i64 {
        (self.place.bits(word) ^ self.sign).wrapping_sub(self.sign) as i64
    }

    /// The same for codes of up to 52 bits that are wanted as real numbers.
    pub(crate) fn to_real(self) -> Option<RealCut> {
        let Self { place, sign } = self;
        (place.mask >> 52 == 0).then(|| RealCut { place, or: TWO_52.to_bits() ^ sign, less: TWO_52 + sign as f64 })
    }
}

/// 2^52: the bits of an integer below it are the last bits of the sum of both as a double (IEEE 754, binary64).
const TWO_52: f64 = (1u64 << 52) as f64;

/// Cuts out a code as a double, without a conversion of integers, for which many machines have no lanes: it is put
/// behind the exponent of 2^52, which is then taken away. A sign bit is turned over and taken away with it.
#[derive(Clone, Copy, Debug)]
pub(crate) struct RealCut {
    pub(crate) place: Place,
    or: u64,
    less: f64,
}

impl RealCut {
    #[inline(always)]
    pub(crate) fn code(self, word: u64) -> f64 {
        f64::from_bits(self.place.bits(word) ^ self.or) - self.less
    }
}

/// Cuts out a float of 32 or 64 bits (IEEE 754, binary32 and binary64), in one piece or in two.
#[derive(Clone, Copy, Debug)]
pub(crate) struct FloatCut {
    high: Place,
    low: Option<Place>,
    double: bool,
}

impl FloatCut {
    /// Of the pieces of a float of so many bits, the most significant first.
    pub(crate) fn new(pieces: &[Cut], width: u32) -> Option<Self> {
        let (high, low) = match pieces {
            [whole] => (whole.place, None),
            [high, low] => (high.place, Some(low.place)),
            _ => return None,
        };
        let all = high.width() + low.map_or(0, Place::width);
        (all == width && matches!(width, 32 | 64)).then_some(Self { high, low, double: width == 64 })
    }

    /// Its bits, of a frame with these words.
    #[inline(always)]
    fn bits(self, words: &[u64; MOST_WORDS]) -> u64 {
        let high = self.high.bits(self.high.word(words));
        match self.low {
            Some(low) => self.joined(high, low.bits(low.word(words))),
            None => high,
        }
    }

    /// The numbers of many frames, of which these are the words, each with something done to it.
    #[inline]
    fn reals(self, words: &[Vec<u64>], out: &mut [f64], then: impl Fn(f64) -> f64) -> Option<bool> {
        let high = self.high.column(words)?;
        Some(match self.low {
            None if !self.double => put(out, high.iter().map(|word| then(f64::from(f32::from_bits(self.high.bits(*word) as u32))))),
            None => put(out, high.iter().map(|word| then(f64::from_bits(self.high.bits(*word))))),
            Some(low) => {
                let words = high.iter().zip(low.column(words)?);
                put(out, words.map(|(high, other)| then(self.number(self.joined(self.high.bits(*high), low.bits(*other))))))
            }
        })
    }

    #[inline(always)]
    fn joined(self, high: u64, low: u64) -> u64 {
        high << (self.low.map_or(0, Place::width) & 63) | low
    }

    #[inline(always)]
    fn number(self, bits: u64) -> f64 {
        if self.double { f64::from_bits(bits) } else { f64::from(f32::from_bits(bits as u32)) }
    }
}

/// Cuts out a code that is a real number: a float, or fixed point as a code and the value of its last bit.
#[derive(Clone, Copy, Debug)]
pub(crate) enum NumberCut {
    Float(FloatCut),
    Fixed(RealCut, f64),
}

impl NumberCut {
    /// Its number, of a frame with these words.
    #[inline(always)]
    pub(crate) fn real(self, words: &[u64; MOST_WORDS]) -> f64 {
        match self {
            NumberCut::Float(cut) => cut.number(cut.bits(words)),
            NumberCut::Fixed(cut, step) => cut.code(cut.place.word(words)) * step,
        }
    }

    /// The numbers of many frames, of which these are the words, each with something done to it, and whether all of them are
    /// finite; `None` where the words are not loaded.
    #[inline]
    pub(crate) fn reals(self, words: &[Vec<u64>], out: &mut [f64], then: impl Fn(f64) -> f64) -> Option<bool> {
        match self {
            NumberCut::Float(cut) => cut.reals(words, out, then),
            NumberCut::Fixed(cut, step) => {
                let words = cut.place.column(words)?;
                Some(put(out, words.iter().map(|word| then(cut.code(*word) * step))))
            }
        }
    }
}

/// Puts numbers into their places, and says whether all are finite: a finite number times zero is zero.
#[inline]
fn put(out: &mut [f64], numbers: impl Iterator<Item = f64>) -> bool {
    let mut zeros = 0u64;
    for (out, number) in out.iter_mut().zip(numbers) {
        *out = number;
        zeros |= (number * 0.0).to_bits() << 1;
    }
    zeros == 0
}
