// Classifies images with the model of this folder, and checks itself. Once before: npm install
//
//   node classify.mjs IMAGE...      the three most probable classes of each image
//   node classify.mjs --check       runs the bundled reference images; exit code 0 if all answers are the expected ones
//   --model NAME                    another model than the first, if the bundle holds several
import {readFile} from "node:fs/promises";
import * as runtime from "onnxruntime-web";
import sharp from "sharp";
import {Classifier, check, tensorOf} from "./classifier.mjs";

const read = name => readFile(new URL(name, import.meta.url));

async function decode(bytes, how) { // stage 1: a file becomes RGB or RGBA bytes, its colour profile left alone
  const picture = sharp(bytes, {autoOrient: how.exif === "apply", ignoreIcc: true});
  const {depth, space, format, hasAlpha} = await picture.metadata();
  if (depth !== "uchar" || space === "cmyk") throw new Error("an image must have 8 bits a channel, in grey or RGB; convert it first");
  if (format === "gif" && hasAlpha && how.transparency === "drop") throw new Error("the colours below the transparency of a GIF are lost; convert it first");
  const {data, info} = await picture.toColourspace("srgb").raw().toBuffer({resolveWithObject: true});
  return {width: info.width, height: info.height, channels: info.channels, data};
}

const given = process.argv.slice(2), at = given.indexOf("--model");
const [, wanted] = at < 0 ? [] : given.splice(at, 2);
const models = JSON.parse(await read("classifier.json")).models
  .filter(each => each.file.endsWith(".onnx") && (!wanted || each.name === wanted));
if (!models.length || !given.length) throw new Error(`give images or --check, and a model that the bundle holds`);
if (given.includes("--check")) {
  let passes = true;
  for (const model of models) passes = await check(await Classifier.open(runtime, model, await read(model.file)), read, decode, console.log) && passes;
  process.exitCode = passes ? 0 : 1;
} else {
  const classifier = await Classifier.open(runtime, models[0], await read(models[0].file));
  for (const path of given) {
    const scores = await classifier.scores(tensorOf(await decode(await readFile(path), models[0].inlet.decode), models[0]));
    console.log(`${path}: ${classifier.best(scores).map(([label, share]) => `${label} ${share.toFixed(3)}`).join(", ")}`);
  }
}
