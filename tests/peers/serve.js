// A service of OData that we did not write, and that behaves badly: node serve.js FOLDER.
// FOLDER has metadata.xml, and Hives.json with its records. It prints its port.
const http = require('http');
const { default: Service } = require('@sap-ux/fe-mockserver-core');

async function main(folder) {
    const service = new Service({
        services: [{ urlPath: '/coop', metadataPath: `${folder}/metadata.xml`, mockdataPath: folder, watch: false, noETag: true }],
    });
    await service.isReady;
    const router = service.getRouter();
    const server = http.createServer((request, answer) => {
        router(request, answer, () => { answer.statusCode = 404; answer.end(); });
    });
    server.listen(0, '127.0.0.1', () => console.log(server.address().port));
}

main(process.argv[2]);
