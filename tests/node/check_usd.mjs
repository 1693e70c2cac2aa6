// Reads a delivered USD file with three.js's reader (not written here) and compares it with the camera.json of the same
// shot. Usage: node check_usd.mjs shot.usda shot.camera.json [number of stand-ins]
import fs from 'node:fs';
import { createRequire } from 'node:module';
import { pathToFileURL } from 'node:url';
import path from 'node:path';

const require = createRequire(path.join(process.env.PINION_NODE_DIR, 'package.json'));
const { USDAParser } = await import(pathToFileURL(require.resolve('three/examples/jsm/loaders/usd/USDAParser.js')));
const [usdPath, cameraPath, standIns] = process.argv.slice(2);
const camera = JSON.parse(fs.readFileSync(cameraPath, 'utf8'));
const specs = new USDAParser().parseData(fs.readFileSync(usdPath, 'utf8')).specsByPath;
const fail = (what) => { console.error(what); process.exit(1); };

const root = specs['/'].fields;
if (root.upAxis !== 'Y') fail('up axis');
if (root.metersPerUnit !== 1) fail('metersPerUnit');
if (Math.abs(root.timeCodesPerSecond - camera.fps) > 1e-6) fail('time codes per second');
const base = '/' + root.defaultPrim;
const focal = specs[base + '/Camera.focalLength'].fields.default;
if (Math.abs(focal - camera.frames[0].focal_mm) > 1e-3) fail('focal length');
const aperture = specs[base + '/Camera.horizontalAperture'].fields.default;
if (Math.abs(aperture - camera.sensor_width_mm) > 1e-6) fail('aperture');
const { times, values } = specs[base + '/Camera.xformOp:transform'].fields.timeSamples;
if (times.length !== camera.frames.length) fail('number of frames');
camera.frames.forEach((frame, i) => {
    if (times[i] !== frame.frame) fail(`frame ${frame.frame}`);
    const flat = values[i].flat(Infinity);
    for (let r = 0; r < 4; ++r)
        for (let c = 0; c < 4; ++c)
            if (Math.abs(flat[c * 4 + r] - frame.world_from_camera[r * 4 + c]) > 1e-6)
                fail(`matrix of frame ${frame.frame}`);
});
if (specs[base + '/Cloud.points'].fields.default.length !== 3 * camera.points.length) fail('number of points');
// Stand-ins: each a closed description of faces, in the places that its points name.
const shapes = Object.keys(specs).filter((name) => /^\/[^/]+\/[^/]+\/Shape$/.test(name));
if (standIns !== undefined && shapes.length !== Number(standIns)) fail(`${shapes.length} stand-ins`);
for (const shape of shapes) {
    const points = specs[shape + '.points'].fields.default;
    const counts = specs[shape + '.faceVertexCounts'].fields.default;
    const indices = specs[shape + '.faceVertexIndices'].fields.default;
    if (!points.length || points.length % 3 || !points.every(Number.isFinite)) fail(`points of ${shape}`);
    if (counts.reduce((sum, count) => sum + count, 0) !== indices.length) fail(`faces of ${shape}`);
    if (indices.some((index) => index < 0 || index >= points.length / 3)) fail(`indices of ${shape}`);
    const place = specs[path.posix.dirname(shape) + '.xformOp:transform'].fields;
    if (!place.default && !place.timeSamples) fail(`place of ${shape}`);
    // Parts of it with a look of their own: faces that it has, and a look that is there.
    for (const part of Object.keys(specs).filter((name) => name.startsWith(shape + '/') && !name.includes('.'))) {
        const faces = specs[part + '.indices'].fields.default;
        if (!faces.length || faces.some((face) => face < 0 || face >= counts.length)) fail(`faces of ${part}`);
        const look = specs[part + '.material:binding']?.fields.targetPaths?.[0];
        if (specs[look]?.fields.typeName !== 'Material') fail(`material of ${part}`);
    }
    // What it is bound to is there, and every input of it comes from a number or from an output of a part that is there
    // (the reader keeps no outputs, which have no values).
    const bound = specs[shape + '.material:binding']?.fields.targetPaths?.[0];
    if (!bound) continue;
    if (specs[bound]?.fields.typeName !== 'Material') fail(`material of ${shape}`);
    const parts = Object.entries(specs).filter(([name]) => name.startsWith(bound) && name.includes('.'));
    for (const [name, spec] of parts)
        for (const source of spec.fields.connectionPaths ?? [])
            if (!specs[source.split('.')[0]]) fail(`${name} comes from ${source}, which is not there`);
    if (!parts.some(([name]) => /\/Surface\.inputs:(diffuse|emissive)Color$/.test(name))) fail(`colour of ${shape}`);
}
console.log(`${times.length} frames and ${camera.points.length} points agree`);
