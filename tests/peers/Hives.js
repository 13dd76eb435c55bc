// Rules of the hives: some notes are refused (in an object, or in plain words), one is stored otherwise.
module.exports = {
    async onBeforeUpdateEntry(keys, data) {
        if (data.note === 'refused') {
            this.throwError('no such note', 422, { error: { code: 'note', message: 'no such note' } });
        }
        if (data.note === 'refused in words') {
            this.throwError('not a word of JSON', 400);
        }
        if (data.note === 'quiet') {
            data.note = 'QUIET';
        }
    },
};
