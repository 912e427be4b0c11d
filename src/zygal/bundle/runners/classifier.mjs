// The model of this bundle in JavaScript: the same stages as classify.py, for Node and for the browser.
// What is specific to the model is data in classifier.json; a decoded picture is {width, height, channels, data}.

// Stage 1, the part behind the decoder: RGB or RGBA bytes become colour or grey.
export function toColour(picture, how) {
  const {width, height, channels, data} = picture;
  const out = new Uint8Array(width * height * 3);
  const ground = how.transparency === "drop" ? null : colourOf(how.transparency);
  for (let pixel = 0; pixel < width * height; pixel++) {
    const alpha = channels === 4 && ground ? data[pixel * 4 + 3] : 255;
    for (let c = 0; c < 3; c++) {
      const value = data[pixel * channels + c];
      out[pixel * 3 + c] = alpha === 255 ? value : over(value, ground[c], alpha);
    }
  }
  if (how.colour !== "grey") return {width, height, channels: 3, data: out};
  const grey = new Uint8Array(width * height);
  for (let pixel = 0; pixel < grey.length; pixel++)
    grey[pixel] = (out[pixel * 3] * 19595 + out[pixel * 3 + 1] * 38470 + out[pixel * 3 + 2] * 7471 + 0x8000) >> 16;
  return {width, height, channels: 1, data: grey};
}

const colourOf = text => [1, 3, 5].map(at => parseInt(text.slice(at, at + 2), 16));

function over(value, ground, alpha) { // a transparent pixel over a ground, rounded as classify.py's library rounds it
  const sum = 128 * (value * alpha + ground * (255 - alpha)) + 128 * 128;
  return (((sum >> 8) + sum) >> 8) >> 7;
}

// Stage 2, frame: each step gives a picture of another size.
export function frame(picture, steps) {
  for (const step of steps) picture = step.step === "resize" ? resize(picture, sizeOf(step, picture), step) : cropOrPad(picture, step);
  return picture;
}

function sizeOf(step, {width, height}) {
  if (step.size) return step.size;
  if (step.short_side) {
    const side = inProportion(step.short_side * Math.max(height, width), Math.min(height, width), step);
    return height <= width ? [step.short_side, side] : [side, step.short_side];
  }
  const [tall, wide] = step.within ?? step.cover, keep = step.within ? Math.min : Math.max; // as large as fits, as small as covers
  if ((tall * width <= wide * height) === Boolean(step.within)) return [tall, keep(wide, Math.max(1, inProportion(tall * width, height, step)))];
  return [keep(tall, Math.max(1, inProportion(wide * height, width, step))), wide];
}

const inProportion = (product, divisor, {long_side}) => ({down: Math.floor, up: Math.ceil}[long_side] ?? halfToEven)(product / divisor);

function halfToEven(number) {
  const below = Math.floor(number);
  return number - below === 0.5 ? below + (below % 2) : Math.round(number);
}

function resize(picture, [rows, columns], step) {
  const whole = step.rounding === "passes";
  const rowsFirst = whole && step.order === "by-shrinkage" && picture.height - rows > Math.max(0, 2 * (picture.width - columns));
  for (const down of rowsFirst || !whole ? [true, false] : [false, true]) picture = along(picture, down, down ? rows : columns, step, whole);
  if (step.rounding === "end") picture.data = Uint8Array.from(picture.data, value => Math.min(255, Math.max(0, halfToEven(value))));
  return picture;
}

function along(picture, down, after, step, whole) { // one axis; whole: sums in whole multiples of 2 ** -22, rounded to 8 bits
  const {width, height, channels, data} = picture, before = down ? height : width;
  if (after === before && whole) return picture;
  const size = down ? [after, width] : [height, after];
  const out = whole || step.filter === "nearest" ? new Uint8Array(size[0] * size[1] * channels) : new Float32Array(size[0] * size[1] * channels);
  const stride = down ? width * channels : channels;
  weightsOf(before, after, step, whole).forEach(({first, weights}, place) => {
    const kept = whole ? weights.map(each => Math.trunc(each * 2 ** 22 + (each < 0 ? -0.5 : 0.5))) : weights;
    for (let other = 0; other < (down ? width : height); other++)
      for (let c = 0; c < channels; c++) {
        let sum = whole ? 2 ** 21 : 0, at = (down ? (first * width + other) : (other * width + first)) * channels + c;
        for (const weight of kept) { sum += weight * data[at]; at += stride; }
        if (whole) sum = Math.min(255, Math.max(0, Math.floor(sum / 2 ** 22)));
        out[(down ? place * width + other : other * after + place) * channels + c] = sum;
      }
  });
  return {width: size[1], height: size[0], channels, data: out};
}

function weightsOf(before, after, step, whole) { // for each output pixel its first input pixel and the weights from there on
  const scale = before / after;
  if (step.filter === "nearest") {
    let reached = scale * 0.5;
    return Array.from({length: after}, (_, place) => {
      if (place) reached += scale;
      return {first: Math.min(before - 1, Math.floor(reached)), weights: [1]};
    });
  }
  const widened = step.antialias || whole ? Math.max(scale, 1) : 1;
  const reach = {box: 0.5, bilinear: 1, bicubic: 2, lanczos: 3}[step.filter] * widened;
  return Array.from({length: after}, (_, place) => {
    const centre = (place + 0.5) * scale;
    const low = whole ? Math.max(0, Math.trunc(centre - reach + 0.5)) : Math.floor(centre - 0.5 - reach) + 1;
    const high = whole ? Math.min(before, Math.trunc(centre + reach + 0.5)) : Math.ceil(centre - 0.5 + reach);
    const first = Math.max(0, low), weights = new Array(Math.min(before, Math.max(high, first + 1)) - first).fill(0);
    for (let tap = low; tap < high; tap++) {
      const inside = tap >= 0 && tap < before;
      if (inside || step.edges !== "inside")
        weights[Math.min(weights.length - 1, Math.max(0, tap - first))] += kernel((tap - centre + 0.5) * (1 / widened), step);
    }
    const sum = weights.reduce((total, each) => total + each, 0);
    return {first, weights: weights.map(each => each / sum)};
  });
}

function kernel(offset, step) {
  const x = Math.abs(offset), a = step.cubic;
  if (step.filter === "box") return offset > -0.5 && offset <= 0.5 ? 1 : 0;
  if (step.filter === "bilinear") return Math.max(0, 1 - x);
  if (step.filter === "lanczos") return x < 3 ? sinc(x) * sinc(x / 3) : 0;
  return x < 1 ? ((a + 2) * x - (a + 3)) * x * x + 1 : x < 2 ? (((x - 5) * x + 8) * x - 4) * a : 0;
}

const sinc = x => x === 0 ? 1 : Math.sin(x * Math.PI) / (x * Math.PI);

function cropOrPad(picture, step) { // a window of another size in the middle
  const {width, height, channels, data} = picture;
  let [rows, columns] = step.size ?? step.aspect;
  if (!step.size) [rows, columns] = [Math.max(1, Math.min(height, Math.floor(width * rows / columns))), Math.max(1, Math.min(width, Math.floor(height * columns / rows)))];
  const sign = step.step === "crop" ? 1 : -1;
  if (sign * (height - rows) < 0 || sign * (width - columns) < 0)
    throw new Error(`an image of ${width} x ${height} pixels does not fit the ${step.step} to ${columns} x ${rows}`);
  const top = margin(height - rows, step), left = margin(width - columns, step);
  const colour = step.step === "pad" ? (channels === 1 ? [greyOf(colourOf(step.colour))] : colourOf(step.colour)) : null;
  const out = new data.constructor(rows * columns * channels);
  for (let row = 0; row < rows; row++)
    for (let column = 0; column < columns; column++)
      for (let c = 0; c < channels; c++) {
        const inside = row + top >= 0 && row + top < height && column + left >= 0 && column + left < width;
        out[(row * columns + column) * channels + c] = inside ? data[((row + top) * width + column + left) * channels + c] : colour[c];
      }
  return {width: columns, height: rows, channels, data: out};
}

const greyOf = ([r, g, b]) => (r * 19595 + g * 38470 + b * 7471 + 0x8000) >> 16;

function margin(spare, step) {
  const size = Math.abs(spare);
  const before = {down: Math.floor(size / 2), up: Math.ceil(size / 2), nearest: halfToEven(size / 2)}[step.centring];
  return spare >= 0 ? before : -before;
}

// Stages 3 and 4: pixels become the model's numbers, in float32 operation by operation, its axes in their order.
export function tensorOf(decoded, model) {
  const {inlet} = model, float = Math.fround;
  const colour = toColour(decoded, model.raw_pixels ? {...inlet.decode, colour: "rgb"} : inlet.decode);
  if (model.raw_pixels) return {data: colour.data, shape: [colour.height, colour.width, 3]};
  const {width, height, channels, data} = frame(colour, inlet.frame);
  const wanted = channels === 1 ? inlet.decode.grey_channels : 3, planes = inlet.tensor.layout === "NCHW";
  const out = inlet.tensor.dtype === "float32" ? new Float32Array(width * height * wanted) : new Uint8Array(width * height * wanted);
  const {range: [low, high], mean, std} = inlet.values;
  for (let pixel = 0; pixel < width * height; pixel++)
    for (let c = 0; c < wanted; c++) {
      let value = data[pixel * channels + (channels === 1 ? 0 : inlet.decode.colour === "bgr" ? 2 - c : c)];
      if (inlet.tensor.dtype === "float32") {
        if (high - low !== 255) value = float(float(value * float(high - low)) / 255);
        value = float(value + float(low));
        if (mean) value = float(value - float(mean[c]));
        if (std) value = float(value / float(std[c]));
      }
      out[planes ? c * width * height + pixel : pixel * wanted + c] = value;
    }
  return {data: out, shape: planes ? [wanted, height, width] : [height, width, wanted]};
}

// The model: one input, one output [batch, classes]. `runtime` is the module onnxruntime-web.
export class Classifier {
  static async open(runtime, model, bytes) {
    const made = new Classifier();
    return Object.assign(made, {runtime, model, session: await runtime.InferenceSession.create(bytes)});
  }

  async scores({data, shape}) {
    const {input, output} = this.model, batch = input.batch ?? 1, repeated = new data.constructor(data.length * batch);
    for (let image = 0; image < batch; image++) repeated.set(data, image * data.length);
    const tensor = new this.runtime.Tensor(data instanceof Float32Array ? "float32" : "uint8", repeated, [batch, ...shape]);
    const found = (await this.session.run({[input.name]: tensor}, [output.name]))[output.name];
    return found.data.slice(0, found.data.length / batch);
  }

  probabilities(scores) {
    const kind = this.model.scores;
    let shares = Array.from(scores);
    if (kind === "logits") {
      const top = Math.max(...shares), powers = shares.map(each => Math.exp(each - top)), sum = powers.reduce((total, each) => total + each, 0);
      shares = powers.map(each => each / sum);
    } else if (kind === "log-probabilities") shares = shares.map(Math.exp);
    else if (kind === "independent logits") shares = shares.map(each => 1 / (1 + Math.exp(-each)));
    return shares.length === 1 ? [1 - shares[0], shares[0]] : shares; // one output: no and yes
  }

  best(scores, count = 3) { // [label, probability] of the most probable classes
    const shares = this.probabilities(scores);
    return shares.map((share, index) => [this.model.labels[index], share]).sort((one, other) => other[1] - one[1]).slice(0, count);
  }
}

const hash = async bytes => Array.from(new Uint8Array(await crypto.subtle.digest("SHA-256", bytes)), each => each.toString(16).padStart(2, "0")).join("");
const topOf = list => list.reduce((best, value, index) => value > list[best] ? index : best, 0);

// The bundled images against what was recorded when the bundle was made. read: bytes of a file; decode: bytes to a picture.
export async function check(classifier, read, decode, say) {
  const {model} = classifier;
  let worst = 0, failed = 0;
  for (const expected of model.references) {
    const bytes = await read(expected.image), sameFile = await hash(bytes) === expected.sha256;
    let tensor;
    try {
      tensor = tensorOf(await decode(bytes, model.inlet.decode), model);
    } catch (fault) {
      failed++;
      say(`FAIL  ${expected.image}: ${fault.message}`);
      continue;
    }
    const sameTensor = await hash(tensor.data) === expected.tensor_sha256;
    const scores = await classifier.scores(tensor);
    const difference = Math.max(...expected.scores.map((value, index) => Math.abs(value - scores[index]))) / model.spread;
    const passes = sameFile && difference <= model.limit_of_spread && topOf(scores) === topOf(expected.scores);
    worst = Math.max(worst, difference);
    failed += passes ? 0 : 1;
    const words = `file ${sameFile ? "as bundled" : "CHANGED"}, tensor ${sameTensor ? "identical" : "differs"}`;
    say(`${passes ? "pass" : "FAIL"}  ${expected.image}: ${words}, scores differ by ${difference.toExponential(1)} of the spread`);
  }
  say(`${model.name}: ${failed} of ${model.references.length} images fail, largest difference ${worst.toExponential(1)} of the spread`);
  return failed === 0;
}
