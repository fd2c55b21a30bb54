using System.Buffers;
using System.Diagnostics;
using System.Security.Cryptography;
using Vestige.Connectors.PostgreSql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Bench;

/// <summary>Rows through a treatment on one core, beside the same rows only read and written again.</summary>
internal static class Treating
{
    private const int BlockRows = 1000;
    private const int Rounds = 5;

    public static void Run(int rows)
    {
        var source = new TableSchema(
            new TableName("public", "patron"),
            [
                new Column("id", "integer", KeyOrdinal: 1),
                new Column("branch", "integer"),
                new Column("name", "text"),
                new Column("email", "text"),
                new Column("born", "date"),
                new Column("fee", "numeric(8,2)"),
                new Column("note", "text"),
            ],
            [],
            []
        );
        TreatmentStep[] steps =
        [
            new("*", Keep: "branch <> 7"),
            new("*", Mask: [new MaskedColumn("email", MaskMethod.Hash)]),
            new("*", Compute: [new ComputedColumn("label", "name || ' #' || id")]),
        ];
        TreatmentStep[] starred = [steps[0], new("*", Mask: [new MaskedColumn("email", MaskMethod.KeepLast, Last: 4)]), steps[2]];
        var (treatment, stars) = (Build(source, steps), Build(source, starred));
        var block = Block();
        Through(block, BlockRows * 20, null);
        Through(block, BlockRows * 20, treatment);
        Through(block, BlockRows * 20, stars);
        TellParts(source, steps, block, rows);
        var (plain, treated, kept) = (new List<double>(), new List<double>(), new List<double>());
        for (var round = 0; round < Rounds; round++)
        {
            plain.Add(Through(block, rows, null));
            treated.Add(Through(block, rows, treatment));
            kept.Add(Through(block, rows, stars));
        }

        var (one, other) = (Median(plain), Median(treated));
        Console.WriteLine($"read and written again: {one:N0} rows/s");
        Console.WriteLine(
            $"one filter, one keyed hash, one computed column: {other:N0} rows/s on one core, {other / one:0.00} of that (asked: at "
                + "least 500,000)"
        );
        Console.WriteLine(
            $"the same with stars for all but the last four in the hash's place: {Median(kept):N0} rows/s, {Median(kept) / one:0.00}"
        );
        Console.WriteLine($"without steps the treatment is {(Build(source).IsIdentity ? "not gone through at all" : "gone through")}");
    }

    /// <summary>What each step costs alone, beside the hash as the base library makes it.</summary>
    private static void TellParts(TableSchema source, TreatmentStep[] steps, ReadOnlyMemory<byte> block, int rows)
    {
        foreach (var step in steps.Append(new TreatmentStep("*", LeaveOut: ["note"])))
        {
            var alone = Build(source, step);
            Through(block, BlockRows * 20, alone);
            Console.WriteLine(
                $"{step.Kinds.First(kind => kind.IsSet).Name} alone: "
                    + $"{1e9 / Median([.. Enumerable.Range(0, Rounds).Select(_ => Through(block, rows, alone))]):N0} ns a row"
            );
        }

        using var hash = IncrementalHash.CreateHMAC(HashAlgorithmName.SHA256, new byte[32]);
        Span<byte> into = stackalloc byte[32];
        var watch = Stopwatch.StartNew();
        for (var i = 0; i < rows; i++)
        {
            hash.AppendData("anouk.1234@example.invalid"u8);
            hash.GetHashAndReset(into);
        }

        Console.WriteLine($"a keyed hash of the base library: {watch.Elapsed.TotalNanoseconds / rows:N0} ns");
    }

    /// <summary>Rules over names of tables, beside comparing each name with one prefix.</summary>
    public static void RunRules(int tables)
    {
        TableName[] names =
        [
            .. Enumerable.Range(0, tables).Select(i => new TableName($"schema_{i % 40}", $"table_{i}_{(i % 9 == 0 ? "tmp" : "data")}")),
        ];
        var rules = new TableRules([
            new TableRule(Take: "schema_1*"),
            new TableRule(Take: "schema_2*.table_*"),
            new TableRule(Leave: "*_tmp"),
            new TableRule(Take: "schema_3.table_*_tmp"),
            new TableRule(Leave: "*.audit_*"),
            new TableRule(Take: "schema_39.*"),
        ]);
        var taken = names.Count(rules.Takes);
        var watch = Stopwatch.StartNew();
        taken = names.Count(rules.Takes);
        var ours = tables / watch.Elapsed.TotalSeconds;
        watch.Restart();
        var prefixed = names.Count(name => name.ToString().StartsWith("schema_1", StringComparison.Ordinal));
        var plain = tables / watch.Elapsed.TotalSeconds;
        Console.WriteLine(
            $"6 rules: {ours:N0} tables/s, {taken:N0} taken; one prefix: {plain:N0} tables/s, {prefixed:N0}; {ours / plain:0.00} of "
                + "that (asked: at least 1,000,000)"
        );
    }

    private static TableTreatment Build(TableSchema source, params TreatmentStep[] steps)
    {
        var types = new PostgreSqlSource(
            new PostgreSqlSettings("127.0.0.1", 1, "x", "x", TlsMode.Off, null, null),
            LogNames.Of("bench", "x"),
            TimeProvider.System
        ).Types;
        return TreatmentBuilder
            .Build(
                new CrossingDefinition("c", "copy", "a", "b", new TableRules([]), Treatment: steps),
                source,
                name => name,
                types,
                new BenchKeys()
            )
            .Treatment!;
    }

    private static ReadOnlyMemory<byte> Block()
    {
        var rows = new ArrayBufferWriter<byte>();
        var writer = new RowWriter();
        for (var i = 0; i < BlockRows; i++)
        {
            writer.Begin(7);
            foreach (
                var value in new[]
                {
                    $"{i}",
                    $"{i % 24}",
                    $"Anouk Wald {i}",
                    $"anouk.{i}@example.invalid",
                    "1980-02-29",
                    "12.50",
                    "a note of some length, as notes are",
                }
            )
            {
                writer.Text(value);
            }

            ChangeWriter.Write(rows, ChangeKind.Insert, 0, default, writer.Finish());
        }

        return rows.WrittenMemory;
    }

    private static double Through(ReadOnlyMemory<byte> block, int rows, TableTreatment? treatment)
    {
        var output = new ArrayBufferWriter<byte>(block.Length * 2);
        var made = new List<TreatedChange>();
        var watch = Stopwatch.StartNew();
        for (var done = 0; done < rows; done += BlockRows)
        {
            output.ResetWrittenCount();
            var reader = new ChangeReader(block);
            while (reader.TryRead(out var change))
            {
                if (treatment is null)
                {
                    ChangeWriter.Write(output, change);
                    continue;
                }

                made.Clear();
                treatment.Load(change.After, made);
                foreach (var (_, row) in made)
                {
                    ChangeWriter.Write(output, row);
                }
            }
        }

        return rows / watch.Elapsed.TotalSeconds;
    }

    private static double Median(List<double> values) => values.Order().ElementAt(values.Count / 2);
}
