// Has Khronos's gltf-validator read a .glb: no error and no warning. Arguments: the file.
import { createRequire } from 'node:module';
import { readFileSync } from 'node:fs';

const require = createRequire(process.env.PINION_NODE_DIR + '/');
const validator = require('gltf-validator');
const report = await validator.validateBytes(new Uint8Array(readFileSync(process.argv[2])));
for (const message of report.issues.messages) console.error(message.severity, message.code, message.message);
process.exit(report.issues.numErrors + report.issues.numWarnings === 0 ? 0 : 1);
