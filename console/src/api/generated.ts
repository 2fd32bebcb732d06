// Made from the OpenAPI document by shapes.js. Do not edit.

export type paths = Record<string, never>;
export type webhooks = Record<string, never>;
export interface components {
    schemas: {
        /** @description At most so many hits that share a value of a field; records without a value count as sharing one */
        AtMost: {
            field: string;
            /** @description 1 to 1000 */
            hits: number;
        };
        /**
         * @description What happens when a row is wrong
         * @enum {string}
         */
        BadRows: "stop" | "set-aside";
        /** @description A collection */
        Collection: {
            columns: components["schemas"]["Column"][];
            /** Format: date-time */
            created_at: string;
            /** @description The column that searches use when they name none; null while there is no column */
            default_column: string | null;
            description: string;
            /** @description JSON Schema (2020-12) */
            fields: Record<string, unknown>;
            indexes: components["schemas"]["Index"][];
            n_records: number;
            name: string;
            /**
             * Format: int64
             * @description Grows with every batch that is written
             */
            revision: number;
            /**
             * Format: int64
             * @description Grows with every change of fields or columns
             */
            schema_version: number;
        };
        /** @description Every collection */
        CollectionList: {
            collections: components["schemas"]["Collection"][];
        };
        /** @description A change of a collection; absent members stay as they are */
        CollectionPatch: {
            /** @description The column that searches use when they name none */
            default_column?: string | null;
            description?: string | null;
            /** @description The whole JSON Schema of the fields. Fields can be added, described and widened, but not removed */
            fields?: Record<string, unknown> | null;
        };
        /** @description A vector column */
        Column: {
            /** Format: int32 */
            dimensions: number;
            encoder: string | null;
            /** @description `cosine`, `euclidean` or `dot` */
            metric: string;
            /** @description Bytes of vectors in memory */
            n_bytes_memory: number;
            /** @description Records that have a vector in this column */
            n_vectors: number;
            name: string;
            serving: components["schemas"]["ServingChoice"] | null;
            template: string | null;
        };
        /** @description A strategy that the planner compared */
        Considered: {
            /** @description Distances that it was expected to evaluate */
            distances: number;
            /** Format: double */
            expected_us: number;
            /**
             * Format: double
             * @description Nanoseconds of one of them on this machine, as measured
             */
            ns_each: number;
            strategy: components["schemas"]["Strategy"];
        };
        /** @description What one part of a collection takes, in bytes */
        CostPart: {
            /**
             * Format: double
             * @description Of an index: the share of living vectors that it holds, 0 to 1
             */
            coverage: number | null;
            /**
             * Format: int64
             * @description Bytes stored in MariaDB, without what its tables add
             */
            database: number;
            /**
             * Format: int64
             * @description Bytes of files in the data directory
             */
            disk: number;
            /**
             * Format: int64
             * @description Bytes in memory. Pages of an index are mapped from its file, and count only while they are used
             */
            memory: number;
            /**
             * Format: int64
             * @description Rows, values or vectors that it holds
             */
            n: number;
            name: string;
            /** @description `records`, `field`, `vectors` or `index` */
            part: string;
        };
        /** @description What a collection takes, in bytes, part by part */
        Costs: {
            /** Format: int64 */
            database: number;
            /** Format: int64 */
            disk: number;
            /** Format: int64 */
            memory: number;
            parts: components["schemas"]["CostPart"][];
            /** Format: int64 */
            revision: number;
            /**
             * Format: date-time
             * @description When a record was last written or deleted
             */
            written_at: string | null;
        };
        /** @description What a deletion of many records did. `matched` = `deleted` + `left_out`, except for a dry run */
        Deleted: {
            deleted: number;
            /** @description Records that others changed or deleted during the request, so that the filter no longer allowed them */
            left_out: number;
            /** @description Keys of some of those */
            left_out_keys?: string[];
            /** @description Records that were named or allowed, and exist */
            matched: number;
            /** Format: int64 */
            revision: number;
        };
        /** @description A deletion of many records */
        DeleteRequest: {
            /** @description Only count */
            dry_run?: boolean;
            /** @description Refuse unless exactly this many records would be deleted; a dry run says how many */
            expected?: number | null;
            filter?: components["schemas"]["Filter"] | null;
            /** @description Delete these records; unknown keys are ignored */
            keys?: string[] | null;
        };
        /** @description An encoder */
        Encoder: {
            /** Format: int32 */
            dimensions: number;
            model: string;
            name: string;
            url: string;
        };
        /** @description Every encoder */
        EncoderList: {
            encoders: components["schemas"]["Encoder"][];
        };
        /** @description Where an encoder is */
        EncoderRequest: {
            /** @description The model's name on that server */
            model: string;
            /** @description The address of a server that speaks the Open Inference Protocol v2 */
            url: string;
        };
        /** @description The exact scan on some of the same queries */
        ExactPoint: {
            /** Format: double */
            p50_us: number;
            /** Format: double */
            p99_us: number;
            queries: number;
            /** Format: double */
            queries_per_s: number;
        };
        /** @description What an index is expected to take */
        Expected: {
            /**
             * Format: double
             * @description Processor seconds of the build, about, on a CPU of 2024
             */
            build_seconds: number;
            /**
             * Format: int64
             * @description Bytes of the whole file; vectors for re-ranking are part of it, and may stay on disk
             */
            file_bytes: number;
            /**
             * Format: int64
             * @description Bytes that searches read throughout: links, cells, codes or vectors
             */
            memory_bytes: number;
        };
        /** @description How a search was understood and run */
        Explanation: {
            filter: components["schemas"]["FilterPart"] | null;
            /** @description The same as CQL2 JSON */
            filter_json: Record<string, unknown> | null;
            /** @description For people to read */
            text: string;
        };
        /** @description A field, and what its values look like */
        Field: {
            description: string | null;
            histogram: components["schemas"]["Histogram"] | null;
            /** @description Bytes in memory */
            n_bytes: number;
            /** @description Different values; of an array field, different items */
            n_distinct: number;
            /** @description Records that name a record that does not exist; null for a field that refers to no collection */
            n_lost_references: number | null;
            n_missing: number;
            n_present: number;
            name: string;
            /** @description The collection whose records its values name */
            refers_to: string | null;
            /** @description Only the database keeps it; a filter can test it with IS NULL and nothing else */
            stored_only: boolean;
            /** @description string, integer, number, boolean, date, timestamp, array of strings, array of integers */
            type: string;
            /** @description The most frequent values first; equal counts in order of the value */
            values: components["schemas"]["ValueCount"][];
        };
        /** @description Every field of a collection */
        Fields: {
            fields: components["schemas"]["Field"][];
            /** @description Records that were counted */
            n_records: number;
        };
        /** @description Which columns of a file are taken, and what they become */
        FileMapping: {
            /** @description The column that holds the keys; `key` when absent */
            key: string | null;
            /** @description Names in the file; all when absent */
            only: string[] | null;
            /** @description Name in the file to name in the collection */
            rename: {
                [key: string]: string;
            };
        };
        /** @description A filter as CQL2 text or as CQL2 JSON; text that begins with `{` is read as JSON */
        Filter: string | Record<string, unknown>;
        /** @description A part of a filter, and how many records it allows by itself */
        FilterPart: {
            allowed: number;
            parts: components["schemas"]["FilterPart"][];
            /** @description CQL2 */
            text: string;
        };
        /** @description A filter in both forms, and what it allows */
        FilterReading: {
            /** @description Records that it allows */
            allowed: number;
            /** @description CQL2 JSON */
            json: Record<string, unknown>;
            /** @description Records in the collection */
            of: number;
            /** @description Canonical CQL2 text */
            text: string;
        };
        /** @description A filter to be read */
        FilterRequest: {
            filter: components["schemas"]["Filter"];
        };
        /** @description A record that a hit refers to */
        Followed: {
            collection: string;
            fields: Record<string, unknown>;
            key: string;
        };
        /** @description A column of a file that can become a field */
        FoundField: {
            /** @description Other types that are possible, when the values are of several types */
            choices?: components["schemas"]["TypeChoice"][];
            examples: unknown[];
            /** Format: int64 */
            n_distinct: number;
            /** Format: int64 */
            n_missing: number;
            /** @description A name that a collection accepts */
            name: string;
            /** @description What a person should know before taking the type */
            remark: string | null;
            /** @description Its name in the file; members of objects by dotted path */
            source: string;
            /** @description string, integer, number, boolean, date, timestamp, array of strings, array of integers */
            type: string;
        };
        /** @description A column of a file that can become a vector column */
        FoundVectors: {
            dimensions: number;
            /** @description f16, f32, f64, u8, or text for numbers that are written out */
            element: string;
            /** Format: int64 */
            n_missing: number;
            name: string;
            remark: string | null;
            source: string;
        };
        /** @description Bars of equal width from the lowest to the highest value */
        Histogram: {
            counts: number[];
            high: unknown;
            low: unknown;
        };
        /** @description A record that was found */
        Hit: {
            /**
             * Format: float
             * @description Lower is closer
             */
            distance: number;
            fields: Record<string, unknown>;
            /** @description By field: the record it refers to; null where there is none */
            follow?: {
                [key: string]: components["schemas"]["Followed"];
            } | null;
            key: string;
            /**
             * Format: float
             * @description Higher is closer
             */
            score: number;
            /** @description By column; null where the record has none */
            vectors?: {
                [key: string]: number[] | null;
            } | null;
        };
        /** @description An index */
        Index: {
            /** Format: double */
            build_seconds: number;
            column: string;
            /** Format: date-time */
            created_at: string;
            error: string | null;
            expected: components["schemas"]["Expected"] | null;
            measured: components["schemas"]["Measured"] | null;
            /** Format: int64 */
            n_bytes_file: number;
            /** @description What searches read throughout: structure and codes, without the vectors for re-ranking */
            n_bytes_memory: number;
            n_bytes_structure: number;
            n_bytes_vectors: number;
            /** @description Rows whose record was deleted or replaced since */
            n_dead: number;
            /**
             * Format: int64
             * @description Rows it was built over
             */
            n_rows: number;
            /** @description Records newer than the index; searches scan them */
            n_uncovered: number;
            name: string;
            /** @description In canonical form */
            recipe: string;
            /**
             * Format: int64
             * @description The revision it covers
             */
            revision: number;
            /** Format: int64 */
            seed: number;
            /** @description Whether it answers searches that name no index */
            serving: boolean;
            /** @description `building`, `ready` or `failed` */
            state: string;
        };
        /** @description The indexes of a collection */
        IndexList: {
            indexes: components["schemas"]["Index"][];
        };
        /** @description What a file holds */
        Inspection: {
            fields: components["schemas"]["FoundField"][];
            file: string;
            /** @description `jsonlines`, `csv`, `parquet`, `arrow`, `npy`, `fvecs` or `bvecs` */
            format: string;
            /** @description The column that should hold the keys */
            key: string | null;
            /** @description What a load must say to put the file into a collection made from it */
            mapping: components["schemas"]["FileMapping"];
            /**
             * Format: int64
             * @description Rows in the file, if the file says so
             */
            n_rows: number | null;
            /**
             * Format: int64
             * @description Rows that were read
             */
            n_sampled: number;
            /** @description JSON Schema of the fields */
            schema: Record<string, unknown>;
            /** @description What is wrong with rows that were read */
            troubles: string[];
            vectors: components["schemas"]["FoundVectors"][];
        };
        /** @description A job */
        Job: {
            collection: string;
            /** @description Counts so far; a load has `read`, `new`, `replaced`, `unchanged`, `rejected` and `unencoded` */
            counts: Record<string, unknown> | null;
            /** Format: date-time */
            created_at: string;
            /** @description Of the stage, if there is one */
            done: number;
            /** Format: double */
            elapsed_s: number;
            error: string | null;
            /** Format: date-time */
            finished_at: string | null;
            /** Format: int64 */
            id: number;
            /** @description `build`, `absorb`, `sweep`, `load` or `backfill` */
            kind: string;
            /**
             * Format: double
             * @description Estimated from the pace so far
             */
            left_s: number | null;
            log: components["schemas"]["LogLine"][];
            result: Record<string, unknown> | null;
            /** @description What it is doing, if it has stages; a build says `learning cells` or `linking` */
            stage: string | null;
            /** @description `running`, `done`, `failed` or `cancelled` */
            state: string;
            /** @description What it works on, such as the name of an index */
            subject: string;
            /** @description 0 while it is not known */
            total: number;
        };
        /** @description Jobs */
        JobList: {
            /** @description Newest first, at most 100 */
            jobs: components["schemas"]["Job"][];
        };
        /** @description A key, without its secret */
        Key: {
            /** Format: date-time */
            created_at: string;
            name: string;
        };
        /** @description Every key */
        KeyList: {
            keys: components["schemas"]["Key"][];
        };
        /** @description A key to make */
        KeyRequest: {
            name: string;
        };
        /** @description One key, or several */
        Keys: string | string[];
        /**
         * @description What happens to a record whose key exists already
         * @enum {string}
         */
        Known: "replace" | "merge";
        /** @description A load and how far it is. `read` = `new` + `replaced` + `unchanged` + `rejected` */
        Load: {
            collection: string;
            /** Format: date-time */
            created_at: string;
            /** @description Why it stopped */
            error: string | null;
            /** @description Names of its files */
            files: string[];
            /** Format: date-time */
            finished_at: string | null;
            /** Format: int64 */
            id: number;
            /**
             * Format: int64
             * @description The job that works on it, or did last
             */
            job: number;
            /** Format: int64 */
            new: number;
            /** Format: int64 */
            read: number;
            /** Format: int64 */
            rejected: number;
            /** Format: int64 */
            replaced: number;
            /** @description The request */
            spec: Record<string, unknown>;
            /** @description `running`, `done`, `stopped` or `cancelled`; the last two can be resumed */
            state: string;
            /** Format: int64 */
            unchanged: number;
            /**
             * Format: int64
             * @description Written without a vector because the encoder refused their text
             */
            unencoded: number;
        };
        /** @description Loads of a collection */
        LoadList: {
            /** @description Newest first, at most 50 */
            loads: components["schemas"]["Load"][];
        };
        /** @description A load to start */
        LoadRequest: {
            /** @default stop */
            bad_rows?: components["schemas"]["BadRows"];
            /**
             * @description Records committed together, 1 to 10,000; 1,000 when absent
             * @default null
             */
            batch?: number | null;
            /**
             * @description The encoder that made the vectors; a column of another encoder refuses them
             * @default null
             */
            encoder?: string | null;
            /**
             * @description The column that holds the keys; `key` when absent
             * @default null
             */
            key?: string | null;
            /** @default null */
            known?: components["schemas"]["Known"] | null;
            /**
             * @description `row` (the first vector belongs to the first record, and so on) or `key`
             * @default row
             */
            match?: components["schemas"]["Match"];
            /**
             * @description Columns of the file to take; all when absent
             * @default null
             */
            only?: string[] | null;
            /**
             * @description An uploaded file of records. Without it the rows of `vectors` are the records, with keys 0, 1, ...
             * @default null
             */
            records?: string | null;
            /**
             * @description Name in the file to name in the collection
             * @default {}
             */
            rename?: {
                [key: string]: string;
            };
            /** @default [] */
            vectors?: components["schemas"]["LoadVectors"][];
        };
        LoadResult: {
            adds_up: boolean;
            before: number;
            in_database: number;
            load: number;
            new: number;
            notices: string[];
            on_node: number;
            others_wrote: boolean;
            read: number;
            rejected: number;
            replaced: number;
            revision: number;
            rows_per_s: number;
            unchanged: number;
            unencoded: number;
        };
        /** @description Vectors of one column in a file of their own */
        LoadVectors: {
            /** @description The collection's default column when absent */
            column?: string | null;
            /** @description An uploaded file: .npy, .fvecs, .bvecs, or one with keys to match by */
            file: string;
            /** @description An uploaded file with the keys of the rows, one a line */
            keys?: string | null;
        };
        /** @description A line of a job's log */
        LogLine: {
            /** Format: date-time */
            at: string;
            text: string;
        };
        /**
         * @description How rows of a file of vectors find their records
         * @enum {string}
         */
        Match: "row" | "key";
        /** @description What the last sweep of an index gave at the settings it is served with, or near the knee */
        Measured: {
            k: number;
            /** Format: double */
            p50_us: number;
            /** Format: double */
            queries_per_s: number;
            /** Format: double */
            recall_mean: number;
            settings: components["schemas"]["Settings"];
            /** Format: int64 */
            sweep: number;
        };
        /** @description A collection to create */
        NewCollection: {
            /** @description Vector columns; more can be added later */
            columns?: components["schemas"]["NewColumn"][];
            description?: string;
            /** @description JSON Schema (2020-12) of the fields: `{"type": "object", "properties": {...}}` */
            fields?: Record<string, unknown> | null;
            /** @description 1 to 64 of a-z, 0-9, - and _, beginning with a letter */
            name: string;
        };
        /** @description A vector column to create */
        NewColumn: {
            /**
             * Format: int32
             * @description 1 to 16,384; not needed when `encoder` is given
             */
            dimensions?: number | null;
            /** @description The encoder that makes this column's vectors from text */
            encoder?: string | null;
            /** @description `cosine` (when absent), `euclidean` or `dot` */
            metric?: string | null;
            name: string;
            /** @description What the encoder reads: field names in braces, such as `{note}` */
            template?: string | null;
        };
        /** @description An index to build */
        NewIndex: {
            /** @description The collection's default column when absent */
            column?: string | null;
            /** @description Made from the recipe when absent */
            name?: string | null;
            /**
             * @description One line, such as `graph(links=16, build=200) | int8 | rescore(f32)`; or `auto`, `auto(recall=0.95, memory=200)`;
             *     or the JSON form
             */
            recipe: components["schemas"]["RecipeText"];
            /**
             * Format: int64
             * @description The same recipe, data, seed and one thread give the same index; 1 when absent
             */
            seed?: number | null;
            /** @description Threads to build with, 1 to 256; all cores when absent */
            threads?: number | null;
        };
        /** @description A key that was made */
        NewKey: {
            /** @description Shown only once; the service keeps its hash */
            key: string;
            name: string;
        };
        /** @description A record to write */
        NewRecord: {
            fields?: Record<string, unknown>;
            /** @description The caller's own name for the record: 1 to 190 bytes */
            key: string;
            /** @description By vector column. If a vector is missing, a column with an encoder and a template makes it */
            vectors?: {
                [key: string]: number[] | null;
            };
        };
        /** @description A file to upload */
        NewUpload: {
            /**
             * Format: int64
             * @description Its size, where it is known; a file of another size is refused
             */
            bytes?: number | null;
            /** @description The file's name; its ending says the format */
            name: string;
        };
        /** @description Advice that comes with an answer */
        Notice: {
            code: string;
            text: string;
        };
        /** @description What a change of many records did. `matched` = `changed` + `unchanged` + `left_out`, except for a dry run */
        Patched: {
            changed: number;
            /** @description Records that others changed or deleted during the request, so that the filter no longer allowed them */
            left_out: number;
            /** @description Keys of some of those */
            left_out_keys?: string[];
            /** @description Records that were named or allowed, and exist */
            matched: number;
            /** Format: int64 */
            revision: number;
            /** @description Records that were already as the patch would make them */
            unchanged: number;
        };
        /** @description A change of many records */
        PatchRequest: {
            /** @description Only count */
            dry_run?: boolean;
            /** @description Refuse unless exactly this many records would change; a dry run says how many */
            expected?: number | null;
            filter?: components["schemas"]["Filter"] | null;
            /** @description Change these records; unknown keys are ignored */
            keys?: string[] | null;
            /** @description As for one record */
            patch: components["schemas"]["RecordPatch"];
        };
        /** @description Problem Details (RFC 9457) */
        Problem: {
            /** @description What is wrong, where, and what would work */
            detail: string;
            /** @description JSON Pointer to the wrong input */
            pointer?: string | null;
            request_id: string;
            /** Format: int32 */
            status: number;
            title: string;
            /** @description `urn:zesty-lantern:problem:` and a permanent word */
            type: string;
        };
        /** @description What a recipe means, stage by stage */
        RecipeExplained: {
            dimensions: number;
            expected: components["schemas"]["Expected"];
            /** @description The JSON form */
            form: Record<string, unknown>;
            /** @description Rows from which means, directions and centres are learned */
            learns_from: number | null;
            metric: string;
            notices: string[];
            /** @description The canonical text */
            recipe: string;
            rows: number;
            stages: components["schemas"]["StageNote"][];
            /** @description Why it was chosen, if the request said `auto` */
            why: string | null;
        };
        /** @description A recipe to explain */
        RecipeRequest: {
            /** @description Takes rows, dimensions and metric from a column of this collection */
            collection?: string | null;
            column?: string | null;
            /** @description Dimensions to calculate with; those of the column when absent */
            dimensions?: number | null;
            /** @description `cosine`, `euclidean` or `dot`; that of the column, or cosine, when absent */
            metric?: string | null;
            /** @description As for an index */
            recipe: components["schemas"]["RecipeText"];
            /** @description Rows to calculate with; those of the collection when absent */
            rows?: number | null;
        };
        /** @description A recipe as one line of text, or in its JSON form */
        RecipeText: string | Record<string, unknown>;
        /** @description A record */
        Record: {
            fields: Record<string, unknown>;
            key: string;
            /**
             * Format: int64
             * @description The revision that wrote it
             */
            revision: number;
            /** @description By vector column, as they were given; only if they were asked for */
            vectors?: {
                [key: string]: number[] | null;
            } | null;
        };
        /** @description Records to write together */
        RecordBatch: {
            /** @description The encoder that made the vectors; a column of another encoder refuses them */
            encoder?: string | null;
            /** @description Up to 10,000 */
            records: components["schemas"]["NewRecord"][];
            /** @description Write the good records and list the others as rejected, instead of refusing the whole batch */
            set_aside?: boolean;
        };
        /** @description A page of records */
        RecordPage: {
            /** @description Give this as `after` for the next page; null at the end */
            next: string | null;
            records: components["schemas"]["Record"][];
        };
        /** @description A change of a record (JSON Merge Patch, RFC 7396) */
        RecordPatch: {
            /** @description Sets members; null removes a value */
            fields?: Record<string, unknown>;
            /** @description By vector column; null removes a vector */
            vectors?: {
                [key: string]: number[] | null;
            };
        };
        /** @description A record that was not written, and why */
        Rejected: {
            /** @description Its place in the batch, from 0 */
            at: number;
            detail: string;
            /** @description The kind of problem */
            word: string;
        };
        /** @description How a stopped load goes on */
        ResumeRequest: {
            bad_rows?: components["schemas"]["BadRows"] | null;
        };
        /** @description The answer to a search */
        SearchAnswer: {
            explain?: components["schemas"]["Explanation"] | null;
            /** @description Nearest first */
            hits: components["schemas"]["Hit"][];
            notices: components["schemas"]["Notice"][];
            /**
             * Format: int64
             * @description The answer includes every batch up to this revision
             */
            revision: number;
            timing: components["schemas"]["Timing"];
            via: components["schemas"]["Via"];
        };
        /** @description The answers to many searches */
        SearchAnswers: {
            /** @description In the order of the searches */
            answers: components["schemas"]["SearchAnswer"][];
        };
        /** @description What the planner decided, and by which numbers */
        SearchPlan: {
            /** @description Rows that the filter allows; all rows without a filter */
            allowed: number;
            /** @description The cheapest first */
            considered: components["schemas"]["Considered"][];
            /** @description Rows that could be an answer before the filter */
            rows: number;
            strategy: components["schemas"]["Strategy"];
            /** @description Allowed rows that are newer than the index; they were scanned */
            unindexed: number;
        };
        /** @description A search. It gives one of `text`, `vector` and `examples` */
        SearchRequest: {
            /** @default null */
            at_most?: components["schemas"]["AtMost"] | null;
            /**
             * @description The collection's default column when absent
             * @default null
             */
            column?: string | null;
            /** @default null */
            counterexamples?: components["schemas"]["Keys"] | null;
            /**
             * Format: float
             * @description Leave out hits with a greater distance
             * @default null
             */
            distance_at_most?: number | null;
            /**
             * @description The encoder that made `vector`; a column of another encoder refuses it
             * @default null
             */
            encoder?: string | null;
            /**
             * @description Scan every record instead of using an index
             * @default false
             */
            exact?: boolean;
            /** @default null */
            examples?: components["schemas"]["Keys"] | null;
            /**
             * @description Return the plan, and how the filter was understood, as a tree
             * @default false
             */
            explain?: boolean;
            /**
             * @description Fields to return; all when absent
             * @default null
             */
            fields?: string[] | null;
            /** @default null */
            filter?: components["schemas"]["Filter"] | null;
            /**
             * @description Fields that refer to records of another collection; each hit brings those records
             * @default null
             */
            follow?: string[] | null;
            /**
             * @description Whether the records of `examples` and `counterexamples` may be hits
             * @default false
             */
            include_self?: boolean;
            /**
             * @description Instead of the serving choice
             * @default null
             */
            index?: string | null;
            /**
             * @description Hits wanted, 1 to 1000; 10 when absent
             * @default 0
             */
            k?: number;
            /**
             * @description Keys of records that must not be hits, at most 10,000
             * @default null
             */
            leave_out?: string[] | null;
            /**
             * Format: float
             * @description Leave out hits with a lower score
             * @default null
             */
            score_at_least?: number | null;
            /** @default null */
            settings?: components["schemas"]["Settings"] | null;
            /**
             * @description Hits to pass over first; with k at most 10,000
             * @default 0
             */
            skip?: number;
            /**
             * @description Sort the hits by this field instead of by distance; descending with a leading minus
             * @default null
             */
            sort?: string | null;
            /**
             * @description Search by text, through the column's encoder
             * @default null
             */
            text?: string | null;
            /**
             * Format: double
             * @description Stop filtering and searching after so many milliseconds, up to 60,000, and answer with what was found
             * @default null
             */
            time_limit_ms?: number | null;
            /**
             * @description Search by a vector with the column's dimensions
             * @default null
             */
            vector?: number[] | null;
            /**
             * @description Vector columns whose vectors to return with each hit, as they were given
             * @default null
             */
            vectors?: string[] | null;
        };
        /** @description Many searches */
        SearchRequests: {
            /** @description 1 to 100 */
            searches: components["schemas"]["SearchRequest"][];
        };
        /** @description The service */
        Service: {
            /** @description Whether MariaDB answers */
            database: boolean;
            /** @description Instruction set of the distance kernels */
            kernels: string;
            n_collections: number;
            n_records: number;
            /** @description This node's own name */
            node: string;
            service: string;
            /** Format: double */
            up_s: number;
            version: string;
        };
        /** @description Which index answers searches that name none, and with which settings */
        ServingChoice: {
            index: string;
            settings: components["schemas"]["Settings"];
        };
        /** @description Search-time numbers that trade recall for speed */
        Settings: {
            /** @description Graphs: how many candidates a walk keeps open, 1 to 10,000; 64 when absent */
            beam?: number | null;
            /** @description With `rescore` in the recipe: re-ranks this many times k candidates, 1 to 100; 3 when absent */
            rescore?: number | null;
            /** @description Cells: how many a search visits, 1 to 100,000; 16 when absent */
            visit?: number | null;
        };
        /** @description A link that signs one browser in */
        SignInLink: {
            /** Format: date-time */
            expires_at: string;
            /** @description Append it to the service's address */
            path: string;
        };
        /** @description One stage of a recipe, explained */
        StageNote: {
            /**
             * Format: double
             * @description Bytes that each row adds
             */
            bytes_per_row: number;
            /**
             * Format: int64
             * @description Bytes that do not depend on the number of rows
             */
            fixed_bytes: number;
            stage: string;
            what: string;
        };
        /** @description A load that has started */
        StartedLoad: {
            job: components["schemas"]["Job"];
            /** Format: int64 */
            load: number;
        };
        /**
         * @description How candidates were found
         * @enum {string}
         */
        Strategy: "scan-all" | "scan-allowed" | "scan-stored" | "scan-sketches" | "walk" | "walk-allowed" | "visit" | "visit-allowed" | "then-scan" | "then-scan-stored" | "then-scan-sketches";
        /** @description A sweep that was run */
        Sweep: {
            column: string;
            /** Format: date-time */
            created_at: string;
            /** Format: int64 */
            id: number;
            index: string;
            recipe: string;
            result: components["schemas"]["SweepResult"];
            spec: components["schemas"]["SweepRequest"];
        };
        /** @description The sweeps of a collection */
        SweepList: {
            /** @description Newest first */
            sweeps: components["schemas"]["Sweep"][];
        };
        /** @description One setting, measured. Latencies are those of the engine, one query at a time */
        SweepPoint: {
            /** Format: double */
            distances_per_query: number;
            /** @description How many queries had each recall: k + 1 counts, from none found to all k */
            histogram: number[];
            /** Format: double */
            p50_us: number;
            /** Format: double */
            p95_us: number;
            /** Format: double */
            p99_us: number;
            /** Format: double */
            queries_per_s: number;
            /** Format: double */
            recall_mean: number;
            /** Format: double */
            recall_min: number;
            /**
             * Format: double
             * @description The 5th percentile
             */
            recall_p5: number;
            /**
             * Format: double
             * @description As `recall_mean`, but a hit that is as near as the farthest true one counts as found
             */
            recall_ties_mean: number;
            settings: components["schemas"]["Settings"];
        };
        /** @description A sweep to run */
        SweepRequest: {
            /** @description Graphs: beams to measure, each 1 to 10,000, at most 32; a usual list when absent */
            beams?: number[] | null;
            /** @description The index to measure */
            index: string;
            k?: number;
            /** @description Records sampled as queries, 1 to 10,000. A record never counts as its own neighbour */
            queries?: number;
            /** @description With `rescore` in the recipe: re-ranks this many times k candidates, 1 to 100; 3 when absent */
            rescore?: number | null;
            /**
             * Format: int64
             * @description Decides which records are sampled
             */
            seed?: number;
            /** @description Cells: how many to visit, each 1 to 100,000, at most 32; a usual list when absent */
            visits?: number[] | null;
        };
        /** @description What a sweep gave */
        SweepResult: {
            exact: components["schemas"]["ExactPoint"];
            /** @description Queries that were sampled; fewer than asked for if there are fewer records */
            n_queries: number;
            /** @description Records that could be a neighbour */
            n_rows: number;
            points: components["schemas"]["SweepPoint"][];
            /** Format: int64 */
            revision: number;
        };
        /** @description Microseconds in each stage */
        Timing: {
            /** Format: double */
            encode_us: number;
            /** Format: double */
            fetch_us: number;
            /** Format: double */
            filter_us: number;
            /** Format: double */
            plan_us: number;
            /** Format: double */
            search_us: number;
            /** Format: double */
            total_us: number;
        };
        /** @description A type that a column of a file could have, and what that would cost */
        TypeChoice: {
            /** @description The first of them: its row and its value */
            first: unknown[] | null;
            /**
             * Format: int64
             * @description Rows that this type would reject: of the sampled rows, or of all rows for a type that was asked for
             */
            n_rejected: number;
            type: string;
        };
        /** @description Records that have no vector in a column */
        Unencoded: {
            /** @description Records without a vector in the column, for whatever reason */
            n_without_vector: number;
            records: components["schemas"]["UnencodedRecord"][];
        };
        /** @description A record whose text the encoder refused */
        UnencodedRecord: {
            key: string;
            reason: string;
        };
        /** @description An uploaded file */
        Upload: {
            /**
             * Format: int64
             * @description As announced; null when it was not known
             */
            bytes: number | null;
            /** @description Whether the whole file has arrived */
            complete: boolean;
            /** Format: date-time */
            created_at: string;
            id: string;
            /** @description Its ending says the format: .jsonl, .csv, .parquet, .arrow, .npy, .fvecs, .bvecs; text may end in .gz or .zst */
            name: string;
            /** Format: int64 */
            received: number;
        };
        /** @description Uploaded files */
        UploadList: {
            /** @description Newest first */
            files: components["schemas"]["Upload"][];
        };
        /** @description A value and how many records hold it */
        ValueCount: {
            count: number;
            value: unknown;
        };
        /** @description How the answer came about */
        Via: {
            column: string;
            /** @description Whether the hits are certainly the nearest */
            exact: boolean;
            /** @description Null for an exact search */
            index: string | null;
            /** @description `cosine`, `euclidean` or `dot` */
            metric: string;
            plan: components["schemas"]["SearchPlan"];
            recipe: string | null;
            settings: components["schemas"]["Settings"] | null;
            work: components["schemas"]["Work"];
        };
        /** @description What a search did */
        Work: {
            /** @description Distances evaluated */
            distances: number;
            /** @description Nodes whose neighbours were read, or cells visited */
            hops: number;
            /** @description Nodes that the filter excludes and whose neighbours were searched for allowed ones */
            stepped_over: number;
        };
        /** @description What a write did; it is committed and searchable */
        Written: {
            new: number;
            read: number;
            /** @description Only if the batch asked to set bad records aside */
            rejected?: components["schemas"]["Rejected"][];
            replaced: number;
            /** Format: int64 */
            revision: number;
            /** @description Records that were stored exactly so already */
            unchanged: number;
        };
    };
    responses: never;
    parameters: never;
    requestBodies: never;
    headers: never;
    pathItems: never;
}
export type $defs = Record<string, never>;
export type operations = Record<string, never>;
