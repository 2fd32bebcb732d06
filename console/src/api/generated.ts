// Made from the OpenAPI document by shapes.js. Do not edit.

export type paths = Record<string, never>;
export type webhooks = Record<string, never>;
export interface components {
    schemas: {
        Advice: {
            column: string;
            created_at: string;
            id: number;
            result: components["schemas"]["AdviceResult"];
            spec: components["schemas"]["AdviceRequest"];
            stale: boolean;
        };
        AdviceList: {
            advice: components["schemas"]["Advice"][];
        };
        AdviceRequest: {
            aim?: components["schemas"]["Aim"];
            column?: string | null;
            drop_all?: boolean;
            finalists?: number | null;
            k?: number;
            memory_mb?: number | null;
            query_set?: string | null;
            recall?: number;
            recipes?: string[];
            serve?: boolean;
        };
        AdviceResult: {
            candidates: components["schemas"]["Candidate"][];
            machine: components["schemas"]["Machine"];
            n_queries: number;
            n_rows: number;
            notices: components["schemas"]["Notice"][];
            query_set: string;
            revision: number;
            served: boolean;
            why: string;
            winner: string | null;
        };
        Aim: "mean" | "p5";
        AskedSaved: {
            name: string;
            version: number;
        };
        AtMost: {
            field: string;
            hits: number;
        };
        AuditEntry: {
            at: string;
            from: string;
            id: number;
            key: string;
            method: string;
            path: string;
            request_id: string;
            status: number;
        };
        AuditList: {
            entries: components["schemas"]["AuditEntry"][];
            next: number | null;
        };
        BadRows: "stop" | "set-aside";
        Candidate: {
            expected_memory_bytes: number;
            index: string | null;
            on_all: components["schemas"]["Trial"] | null;
            on_sample: components["schemas"]["Trial"] | null;
            recipe: string;
            verdict: string;
        };
        Capture: {
            days?: number;
            keep?: number;
            share: number;
            texts?: boolean;
        };
        Collection: {
            columns: components["schemas"]["Column"][];
            created_at: string;
            default_column: string | null;
            description: string;
            fields: Record<string, unknown>;
            indexes: components["schemas"]["Index"][];
            n_records: number;
            name: string;
            revision: number;
            schema_version: number;
            trouble: string | null;
        };
        CollectionList: {
            collections: components["schemas"]["Collection"][];
        };
        CollectionPatch: {
            default_column?: string | null;
            description?: string | null;
            fields?: Record<string, unknown> | null;
        };
        Column: {
            dimensions: number;
            encoder: string | null;
            metric: string;
            n_bytes_mapped: number;
            n_bytes_memory: number;
            n_vectors: number;
            name: string;
            serving: components["schemas"]["ServingChoice"] | null;
            template: string | null;
        };
        ComparedDistances: {
            left: number[];
            nearer: components["schemas"]["PairedTest"];
            right: number[];
        };
        ComparedHit: {
            distance: number;
            fields: Record<string, unknown>;
            grade: number | null;
            key: string | null;
            other_rank: number | null;
            rank: number;
            score: number;
        };
        ComparedPage: {
            next: number | null;
            queries: components["schemas"]["ComparedQuery"][];
        };
        ComparedQuery: {
            filter: components["schemas"]["Filter"] | null;
            left: components["schemas"]["ComparedHit"][];
            left_ndcg: number | null;
            left_recall: number;
            overlap: number;
            position: number;
            record: string | null;
            right: components["schemas"]["ComparedHit"][];
            right_ndcg: number | null;
            right_recall: number;
            text: string | null;
            verdict: components["schemas"]["Verdict"] | null;
        };
        ComparedSide: {
            column: string;
            graded: components["schemas"]["GradedFigures"] | null;
            index: string | null;
            p50_us: number;
            p95_us: number;
            p99_us: number;
            recall_mean: number;
            recipe: string | null;
            settings: components["schemas"]["Settings"];
        };
        CompareSide: {
            column?: string | null;
            index?: string | null;
            settings?: components["schemas"]["Settings"];
        };
        Comparison: {
            created_at: string;
            id: number;
            result: components["schemas"]["ComparisonResult"];
            spec: components["schemas"]["ComparisonRequest"];
            stale: boolean;
            verdicts: components["schemas"]["Verdicts"];
        };
        ComparisonList: {
            comparisons: components["schemas"]["Comparison"][];
        };
        ComparisonRequest: {
            k?: number;
            left: components["schemas"]["CompareSide"];
            query_set?: string | null;
            right: components["schemas"]["CompareSide"];
            rounds?: number | null;
            seed?: number | null;
        };
        ComparisonResult: {
            by_grades: components["schemas"]["PairedTest"] | null;
            by_recall: components["schemas"]["PairedTest"];
            distances: components["schemas"]["ComparedDistances"] | null;
            finders: components["schemas"]["Finders"] | null;
            left: components["schemas"]["ComparedSide"];
            machine: components["schemas"]["Machine"];
            moves: components["schemas"]["RankMoves"];
            n_unknown_keys: number;
            notices: components["schemas"]["Notice"][];
            overlap: number[];
            query_set: components["schemas"]["SweptSet"];
            revision: number;
            right: components["schemas"]["ComparedSide"];
        };
        Considered: {
            costs: components["schemas"]["SearchCost"][];
            expected_us: number;
            strategy: components["schemas"]["Strategy"];
        };
        CostOf: "search" | "distance" | "stored" | "checked" | "compared" | "picked" | "newer";
        CostPart: {
            coverage: number | null;
            database: number;
            disk: number;
            mapped: number;
            memory: number;
            n: number;
            name: string;
            part: string;
        };
        Costs: {
            database: number;
            disk: number;
            mapped: number;
            memory: number;
            parts: components["schemas"]["CostPart"][];
            revision: number;
            written_at: string | null;
        };
        Difficulty: {
            distance_1: number | null;
            distance_10: number | null;
            distance_100: number | null;
            intrinsic: number | null;
        };
        DroppedCollection: {
            description: string;
            dropped_at: string;
            dropped_by: string;
            id: number;
            name: string;
            restorable_until: string;
            revision: number;
        };
        DroppedList: {
            dropped: components["schemas"]["DroppedCollection"][];
        };
        Encoder: {
            dimensions: number;
            model: string;
            name: string;
            url: string;
        };
        EncoderList: {
            encoders: components["schemas"]["Encoder"][];
        };
        ExactPoint: {
            p50_us: number;
            p99_us: number;
            queries: number;
            queries_per_s: number;
        };
        Expected: {
            build_seconds: number;
            file_bytes: number;
            memory_bytes: number;
        };
        Explanation: {
            filter: components["schemas"]["FilterPart"] | null;
            filter_json: Record<string, unknown> | null;
            text: string;
        };
        Field: {
            description: string | null;
            histogram: components["schemas"]["Histogram"] | null;
            n_bytes: number;
            n_distinct: number;
            n_lost_references: number | null;
            n_missing: number;
            n_present: number;
            name: string;
            refers_to: string | null;
            stored_only: boolean;
            type: string;
            values: components["schemas"]["ValueCount"][];
        };
        Fields: {
            fields: components["schemas"]["Field"][];
            n_records: number;
        };
        Figures: {
            distances_per_query: number;
            gap_mean: number;
            gap_p95: number;
            histogram: number[];
            p50_us: number;
            p95_us: number;
            p99_us: number;
            recall_interval: components["schemas"]["Interval"];
            recall_mean: number;
            recall_min: number;
            recall_p5: number;
            recall_ties_mean: number;
            standout_recall: number | null;
            standouts: number;
        };
        FileMapping: {
            key: string | null;
            only: string[] | null;
            rename: {
                [key: string]: string;
            };
        };
        Filter: string | (Record<string, unknown> | boolean);
        FilterPart: {
            allowed: number;
            parts: components["schemas"]["FilterPart"][];
            text: string;
        };
        FilterReading: {
            allowed: number;
            json: Record<string, unknown> | boolean;
            of: number;
            text: string;
        };
        Finders: {
            both: number;
            left_alone: number;
            neither: number;
            right_alone: number;
        };
        Followed: {
            collection: string;
            fields: Record<string, unknown>;
            key: string;
        };
        FoundField: {
            choices?: components["schemas"]["TypeChoice"][];
            examples: unknown[];
            n_distinct: number;
            n_missing: number;
            name: string;
            remark: string | null;
            source: string;
            type: string;
        };
        FoundVectors: {
            dimensions: number;
            element: string;
            n_missing: number;
            name: string;
            remark: string | null;
            source: string;
        };
        GivenQuery: {
            filter?: components["schemas"]["Filter"] | null;
            relevant?: {
                [key: string]: number;
            } | null;
            text?: string | null;
            vector?: components["schemas"]["Vector"];
        };
        GradedFigures: {
            hit_rate: number;
            mean_reciprocal_rank: number;
            ndcg: number;
        };
        Histogram: {
            counts: number[];
            high: unknown;
            low: unknown;
        };
        Hit: {
            distance: number;
            fields: Record<string, unknown>;
            follow?: {
                [key: string]: components["schemas"]["Followed"];
            } | null;
            key: string;
            score: number;
            vectors?: {
                [key: string]: number[] | null;
            } | null;
        };
        Index: {
            build_seconds: number;
            column: string;
            created_at: string;
            error: string | null;
            expected: components["schemas"]["Expected"] | null;
            measured: components["schemas"]["Measured"] | null;
            n_bytes_copied?: number;
            n_bytes_file: number;
            n_bytes_memory: number;
            n_bytes_structure: number;
            n_bytes_vectors: number;
            n_dead: number;
            n_rows: number;
            n_uncovered: number;
            name: string;
            recipe: string;
            revision: number;
            seed: number;
            serving: boolean;
            state: string;
        };
        IndexList: {
            indexes: components["schemas"]["Index"][];
        };
        IndexState: {
            checked: number;
            collection: string;
            coverage: number | null;
            name: string;
            recall: number | null;
            serving: boolean;
            state: string;
        };
        Inspection: {
            fields: components["schemas"]["FoundField"][];
            file: string;
            format: string;
            key: string | null;
            mapping: components["schemas"]["FileMapping"];
            n_rows: number | null;
            n_sampled: number;
            schema: Record<string, unknown>;
            troubles: string[];
            vectors: components["schemas"]["FoundVectors"][];
        };
        Interval: {
            high: number;
            low: number;
        };
        Items: {
            format?: components["schemas"]["ValueFormat"] | null;
            type: components["schemas"]["ValueType"];
        };
        Job: {
            collection: string;
            counts: Record<string, unknown> | null;
            created_at: string;
            done: number;
            elapsed_s: number;
            error: string | null;
            finished_at: string | null;
            id: number;
            kind: string;
            left_s: number | null;
            log: components["schemas"]["LogLine"][];
            result: Record<string, unknown> | null;
            stage: string | null;
            state: string;
            subject: string;
            total: number;
        };
        JobList: {
            jobs: components["schemas"]["Job"][];
        };
        KeptAnswers: {
            created_at: string;
            k: number;
            n_rows: number;
            revision: number;
            seconds: number;
            stale: boolean;
        };
        Key: {
            created_at: string;
            created_by: string | null;
            last_used_at: string | null;
            last_used_from: string | null;
            old_secret_ends_at: string | null;
            permit: components["schemas"]["Permit"];
        };
        KeyList: {
            keys: components["schemas"]["Key"][];
        };
        KeyRequest: {
            body_bytes?: number | null;
            collections?: string[] | null;
            expires_at?: string | null;
            filter?: string | null;
            key_prefix?: string | null;
            name: string;
            requests_per_s?: number | null;
            scopes: components["schemas"]["Scope"][];
            searches?: string[] | null;
            values?: Record<string, unknown>;
        };
        Keys: string | string[];
        Known: "replace" | "merge";
        LaneState: {
            depth: number;
            most: number;
            name: string;
            refused: number;
        };
        LensAnswer: {
            column: string;
            curve: number[];
            distances: number;
            gap: number;
            held_out: boolean;
            index: string;
            k: number;
            metric: string;
            of_records: components["schemas"]["Percentiles"] | null;
            of_rows: components["schemas"]["Percentiles"];
            place: components["schemas"]["Place"] | null;
            recall: number;
            recipe: string;
            revision: number;
            search_us: number;
            settings: components["schemas"]["Settings"];
            standouts: number;
            standouts_found: number;
            strays: components["schemas"]["Stray"][];
            truth: components["schemas"]["TrueNeighbour"][];
        };
        LensRequest: {
            position?: number | null;
            query_set?: string | null;
            search?: components["schemas"]["SearchRequest"];
        };
        Load: {
            collection: string;
            created_at: string;
            error: string | null;
            files: string[];
            finished_at: string | null;
            id: number;
            job: number;
            new: number;
            read: number;
            rejected: number;
            replaced: number;
            spec: Record<string, unknown>;
            state: string;
            unchanged: number;
            unencoded: number;
        };
        LoadList: {
            loads: components["schemas"]["Load"][];
        };
        LoadRequest: {
            bad_rows?: components["schemas"]["BadRows"];
            batch?: number | null;
            encoder?: string | null;
            key?: string | null;
            known?: components["schemas"]["Known"] | null;
            match?: components["schemas"]["Match"];
            only?: string[] | null;
            records?: string | null;
            rename?: {
                [key: string]: string;
            };
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
        LoadVectors: {
            column?: string | null;
            file: string;
            keys?: string | null;
        };
        LogLine: {
            at: string;
            text: string;
        };
        Machine: {
            build: string;
            cores: number;
            cpu: string;
            version: string;
        };
        MapAnswer: {
            column: string;
            explained: number[];
            field: string | null;
            n_rows: number;
            points: components["schemas"]["MapPoint"][];
            query: components["schemas"]["MapQuery"] | null;
            revision: number;
        };
        MapNeighbour: {
            distance: number;
            found_at: number | null;
            key: string;
            true_rank: number | null;
            x: number;
            y: number;
        };
        MapPoint: {
            key: string;
            value: unknown;
            x: number;
            y: number;
        };
        MapQuery: {
            index: string;
            neighbours: components["schemas"]["MapNeighbour"][];
            recall: number;
            x: number;
            y: number;
        };
        MapRequest: {
            column?: string | null;
            field?: string | null;
            filter?: components["schemas"]["Filter"] | null;
            query?: components["schemas"]["LensRequest"] | null;
            records?: number | null;
        };
        Match: "row" | "key";
        Measured: {
            k: number;
            p50_us: number;
            queries_per_s: number;
            recall_mean: number;
            settings: components["schemas"]["Settings"];
            sweep: number;
        };
        MeasuredTarget: {
            achieved: number;
            id: number;
            k: number;
            recall: number;
            stale: boolean;
        };
        NewCollection: {
            columns?: components["schemas"]["NewColumn"][];
            description?: string;
            fields?: Record<string, unknown> | null;
            name: string;
        };
        NewColumn: {
            dimensions?: number | null;
            encoder?: string | null;
            metric?: string | null;
            name: string;
            template?: string | null;
        };
        NewIndex: {
            column?: string | null;
            name?: string | null;
            recipe: components["schemas"]["RecipeText"];
            seed?: number | null;
            threads?: number | null;
        };
        NewKey: {
            key: string;
            name: string;
            old_secret_ends_at: string | null;
        };
        NewQuerySet: {
            column?: string | null;
            copies?: boolean | null;
            file?: string | null;
            filter?: components["schemas"]["Filter"] | null;
            given?: components["schemas"]["GivenQuery"][] | null;
            kind: components["schemas"]["QueryKind"];
            name: string;
            noise?: number | null;
            of?: number | null;
            queries?: number | null;
            seed?: number | null;
        };
        Notice: {
            code: string;
            text: string;
        };
        Observed: {
            at: string;
            index: string;
            recall_high: number;
            recall_low: number;
            recall_mean: number;
            searches: number;
        };
        OtherRecipe: {
            build_seconds: number;
            file_bytes: number;
            memory_bytes: number;
            recipe: string;
            why: string;
        };
        PairedTest: {
            difference: number;
            interval: components["schemas"]["Interval"];
            left_better: number;
            p: number;
            right_better: number;
            same: number;
        };
        Parameter: {
            default?: unknown;
            description?: string;
            enum?: unknown[] | null;
            format?: components["schemas"]["ValueFormat"] | null;
            items?: components["schemas"]["Items"] | null;
            maximum?: number | null;
            maxItems?: number | null;
            maxLength?: number | null;
            minimum?: number | null;
            optional?: boolean;
            type: components["schemas"]["ValueType"];
        };
        Percentiles: {
            p5: number;
            p25: number;
            p50: number;
            p75: number;
            p95: number;
        };
        Permit: {
            body_bytes: number | null;
            collections: string[] | null;
            expires_at: string | null;
            filter: string | null;
            key_prefix: string | null;
            name: string;
            requests_per_s: number | null;
            scopes: components["schemas"]["Scope"][];
            searches: string[] | null;
            values: Record<string, unknown>;
        };
        Place: "in-a-cluster" | "at-the-edge" | "in-the-open";
        Pulse: {
            database_silent_s: number | null;
            followed_s: number | null;
            indexes: components["schemas"]["IndexState"][];
            jobs: {
                [key: string]: number;
            };
            lanes: components["schemas"]["LaneState"][];
            n_bytes_budget: number | null;
            n_bytes_collections: number;
            n_bytes_indexes: number;
            node: string;
            step_s: number;
            steps: components["schemas"]["PulseStep"][];
            up_s: number;
        };
        PulseStep: {
            at: string;
            failed: number;
            others: number;
            p50_us: number | null;
            p99_us: number | null;
            refused: number;
            searches: number;
            wrong: number;
        };
        Query: {
            filter?: components["schemas"]["Filter"] | null;
            position: number;
            record?: string | null;
            relevant?: {
                [key: string]: number;
            } | null;
            text?: string | null;
            vector: number[];
        };
        QueryKind: "sampled" | "blended" | "jittered" | "uploaded" | "given" | "captured";
        QueryPage: {
            next: number | null;
            queries: components["schemas"]["Query"][];
        };
        QuerySet: {
            answers: components["schemas"]["KeptAnswers"] | null;
            column: string;
            copies: boolean | null;
            created_at: string;
            difficulty: components["schemas"]["SetDifficulty"] | null;
            kind: components["schemas"]["QueryKind"];
            n_filtered: number;
            n_graded: number;
            n_queries: number;
            name: string;
            noise: number | null;
            of: number | null;
            revision: number;
            seed: number;
        };
        QuerySetList: {
            query_sets: components["schemas"]["QuerySet"][];
        };
        RankMoves: {
            by_one: number;
            by_two_or_three: number;
            farther: number;
            left_alone: number;
            right_alone: number;
            same_rank: number;
        };
        RecallCheck: {
            budget: number;
            floor?: number | null;
        };
        RecipeExplained: {
            dimensions: number;
            expected: components["schemas"]["Expected"];
            form: Record<string, unknown>;
            learns_from: number | null;
            metric: string;
            notices: string[];
            recipe: string;
            rows: number;
            stages: components["schemas"]["StageNote"][];
            why: string | null;
        };
        RecipeText: string | Record<string, unknown>;
        Record: {
            fields: Record<string, unknown>;
            key: string;
            revision: number;
            vectors?: {
                [key: string]: number[] | null;
            } | null;
        };
        RecordPage: {
            next: string | null;
            records: components["schemas"]["Record"][];
        };
        Round: {
            p50_us: number;
            queries_per_s: number;
        };
        SavedDefinition: {
            description?: string;
            parameters?: {
                [key: string]: components["schemas"]["Parameter"];
            };
            search: Record<string, unknown>;
        };
        SavedList: {
            saved: components["schemas"]["SavedSearch"][];
        };
        SavedSearch: {
            collection: string;
            live: number | null;
            name: string;
            path: string;
            trouble: string | null;
            versions: components["schemas"]["SavedVersion"][];
        };
        SavedTraffic: {
            observed: components["schemas"]["Observed"][];
            p50_us: number | null;
            p99_us: number | null;
            searches: number;
            step_s: number;
            steps: components["schemas"]["PulseStep"][];
        };
        SavedVersion: {
            definition: components["schemas"]["SavedDefinition"];
            made_at: string;
            made_by: string;
            takes: {
                [key: string]: string;
            };
            version: number;
        };
        Scope: "ask" | "search" | "read" | "write" | "tune" | "manage";
        SearchAnswer: {
            explain?: components["schemas"]["Explanation"] | null;
            hits: components["schemas"]["Hit"][];
            notices: components["schemas"]["Notice"][];
            revision: number;
            saved?: components["schemas"]["AskedSaved"] | null;
            timing: components["schemas"]["Timing"];
            via: components["schemas"]["Via"];
        };
        SearchCost: {
            n: number;
            ns_each: number;
            of: components["schemas"]["CostOf"];
        };
        SearchPlan: {
            allowed: number;
            considered: components["schemas"]["Considered"][];
            rows: number;
            strategy: components["schemas"]["Strategy"];
            unindexed: number;
            widened: components["schemas"]["Settings"] | null;
        };
        SearchRequest: {
            at_most?: components["schemas"]["AtMost"] | null;
            column?: string | null;
            counterexamples?: components["schemas"]["Keys"] | null;
            distance_at_most?: number | null;
            encoder?: string | null;
            exact?: boolean;
            examples?: components["schemas"]["Keys"] | null;
            explain?: boolean;
            fields?: string[] | null;
            filter?: components["schemas"]["Filter"] | null;
            follow?: string[] | null;
            include_self?: boolean;
            index?: string | null;
            k?: number;
            leave_out?: string[] | null;
            recall?: number | null;
            score_at_least?: number | null;
            settings?: components["schemas"]["Settings"] | null;
            skip?: number;
            sort?: string | null;
            text?: string | null;
            time_limit_ms?: number | null;
            vector?: components["schemas"]["Vector"];
            vectors?: string[] | null;
        };
        Service: {
            database: boolean;
            kernels: string;
            n_collections: number;
            n_records: number;
            node: string;
            service: string;
            up_s: number;
            version: string;
        };
        ServingChoice: {
            index: string;
            recall?: number | null;
            settings: components["schemas"]["Settings"];
        };
        SetDifficulty: {
            queries: components["schemas"]["Difficulty"];
            records: components["schemas"]["Difficulty"];
        };
        SetFigures: {
            figures: components["schemas"]["Figures"];
            n_queries: number;
            query_set: string;
        };
        Settings: {
            beam?: number | null;
            rescore?: number | null;
            visit?: number | null;
        };
        StageNote: {
            bytes_per_row: number;
            fixed_bytes: number;
            stage: string;
            what: string;
        };
        StartedLoad: {
            job: components["schemas"]["Job"];
            load: number;
        };
        Strategy: "scan-all" | "scan-allowed" | "scan-stored" | "walk" | "walk-allowed" | "visit" | "visit-allowed";
        Stray: {
            distance: number;
            key: string;
            rank: number;
            score: number;
        };
        Sweep: {
            column: string;
            created_at: string;
            id: number;
            result: components["schemas"]["SweepResult"];
            spec: components["schemas"]["SweepRequest"];
            stale: boolean;
        };
        SweepList: {
            sweeps: components["schemas"]["Sweep"][];
        };
        SweepPoint: {
            clients: number;
            figures: components["schemas"]["Figures"];
            index: string;
            k: number;
            like: number[];
            queries_per_s: number;
            query_set: string;
            rounds: components["schemas"]["Round"][];
            settings: components["schemas"]["Settings"];
            worst: components["schemas"]["WorstQuery"][];
        };
        SweepRequest: {
            beams?: number[] | null;
            clients?: number[];
            indexes?: string[];
            k?: number[];
            keep?: boolean;
            query_sets?: string[];
            recipes?: string[];
            rescores?: number[] | null;
            rounds?: number | null;
            seed?: number | null;
            visits?: number[] | null;
        };
        SweepResult: {
            cut: boolean;
            indexes: components["schemas"]["SweptIndex"][];
            machine: components["schemas"]["Machine"];
            metric: string;
            notices: components["schemas"]["Notice"][];
            points: components["schemas"]["SweepPoint"][];
            query_sets: components["schemas"]["SweptSet"][];
            revision: number;
        };
        SweptIndex: {
            build_seconds: number;
            n_bytes_file: number;
            n_bytes_memory: number;
            n_uncovered: number;
            name: string;
            recipe: string;
            revision: number;
            seed: number;
        };
        SweptSet: {
            exact: components["schemas"]["ExactPoint"] | null;
            kind: components["schemas"]["QueryKind"];
            n_held_out: number;
            n_left_out: number;
            n_queries: number;
            n_rows: number;
            name: string;
        };
        Target: {
            column: string;
            created_at: string;
            id: number;
            result: components["schemas"]["TargetResult"];
            spec: components["schemas"]["TargetRequest"];
            stale: boolean;
        };
        TargetList: {
            targets: components["schemas"]["Target"][];
        };
        TargetRequest: {
            aim?: components["schemas"]["Aim"];
            index: string;
            k?: number;
            query_sets?: string[];
            recall: number;
            rescore?: number | null;
            serve?: boolean;
        };
        TargetResult: {
            achieved: components["schemas"]["Figures"];
            chosen_recall: number;
            filter: Record<string, unknown> | null;
            instead: components["schemas"]["OtherRecipe"] | null;
            machine: components["schemas"]["Machine"];
            n_filtered?: number;
            n_queries: number;
            notices: components["schemas"]["Notice"][];
            queries_per_s: number;
            reached: boolean;
            recipe: string;
            revision: number;
            served: boolean;
            sets: components["schemas"]["SetFigures"][];
            settings: components["schemas"]["Settings"];
            tried: components["schemas"]["Tried"][];
        };
        Timing: {
            encode_us: number;
            fetch_us: number;
            filter_us: number;
            plan_us: number;
            search_us: number;
            total_us: number;
        };
        Trial: {
            build_seconds: number;
            figures: components["schemas"]["Figures"];
            memory_bytes: number;
            n_rows: number;
            queries_per_s: number;
            reached: boolean;
            settings: components["schemas"]["Settings"];
        };
        Tried: {
            recall: number;
            settings: components["schemas"]["Settings"];
        };
        TrueNeighbour: {
            distance: number;
            found_at: number | null;
            key: string;
            rank: number;
            score: number;
            smallest: components["schemas"]["Settings"] | null;
            stands_out: boolean;
        };
        TypeChoice: {
            first: unknown[] | null;
            n_rejected: number;
            type: string;
        };
        Upload: {
            bytes: number | null;
            complete: boolean;
            created_at: string;
            id: string;
            name: string;
            received: number;
        };
        UploadList: {
            files: components["schemas"]["Upload"][];
        };
        ValueCount: {
            count: number;
            value: unknown;
        };
        ValueFormat: "date" | "date-time";
        ValueType: "string" | "integer" | "number" | "boolean" | "array";
        Vector: number[] | string | null;
        Verdict: "left" | "right" | "same" | "neither";
        VerdictRequest: {
            verdict: components["schemas"]["Verdict"] | null;
        };
        Verdicts: {
            left: number;
            neither: number;
            p: number;
            right: number;
            same: number;
        };
        Via: {
            column: string;
            exact: boolean;
            index: string | null;
            metric: string;
            plan: components["schemas"]["SearchPlan"];
            recipe: string | null;
            settings: components["schemas"]["Settings"] | null;
            target: components["schemas"]["MeasuredTarget"] | null;
            work: components["schemas"]["Work"];
        };
        Watch: {
            capture?: components["schemas"]["Capture"] | null;
            recall?: components["schemas"]["RecallCheck"] | null;
        };
        WatchState: {
            captured: number;
            notices: components["schemas"]["Notice"][];
            overall: components["schemas"]["Observed"][];
            spent: number | null;
            step_s: number;
            steps: components["schemas"]["Observed"][];
            watch: components["schemas"]["Watch"];
        };
        Work: {
            blocks: number;
            distances: number;
            hops: number;
            repeated?: boolean;
        };
        WorstQuery: {
            gap: number;
            position: number;
            recall: number;
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
