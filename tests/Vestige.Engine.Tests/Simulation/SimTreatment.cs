using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// What happens to rows on the way in one simulated world, told twice: as a definition says it, and as plain code that says
/// which rows the target must have. The second knows nothing of the first.
/// </summary>
public sealed class SimTreatment
{
    private readonly Func<TableName, Row, IEnumerable<(TableName Table, string Key, Row Row)>> crosses;

    private SimTreatment(
        Func<CrossingDefinition, CrossingDefinition> define,
        Func<TableName, Row, IEnumerable<(TableName, string, Row)>> crosses
    )
    {
        Define = define;
        this.crosses = crosses;
    }

    /// <summary>Rows are replicated unchanged.</summary>
    public static SimTreatment None { get; } = new(definition => definition, (table, row) => [(table, $"{row.IntegerAt(0)}", row)]);

    /// <summary>Rows cross as they are into another engine, which writes them otherwise.</summary>
    private static SimTreatment CrossEngine { get; } =
        new(definition => definition, (table, row) => [(table, $"{row.IntegerAt(0)}", SimRows.AsTexts(row))]) { CrossesEngines = true };

    /// <summary>Half the rows are left out, of the others a number is reckoned, and the tables have other names.</summary>
    private static SimTreatment Filtered { get; } =
        new(
            definition =>
                definition with
                {
                    Naming = new Naming(Suffix: "_copy"),
                    Treatment =
                    [
                        new TreatmentStep("*", Keep: "value < 'v5'"),
                        new TreatmentStep("*", Compute: [new ComputedColumn("twice", "id * 2")]),
                    ],
                },
            (table, row) =>
                IsLow(row)
                    ?
                    [
                        (
                            table with
                            {
                                Name = table.Name + "_copy",
                            },
                            $"{row.IntegerAt(0)}",
                            Written(row.IntegerAt(0), row.TextAt(1), row.IntegerAt(0) * 2)
                        ),
                    ]
                    : []
        );

    /// <summary>The rows of one table go into two.</summary>
    private static SimTreatment Split { get; } =
        new(
            definition =>
                definition with
                {
                    Treatment =
                    [
                        new TreatmentStep("sim.first", Split: [new SplitTable("sim.low", "value < 'v5'"), new SplitTable("sim.high")]),
                    ],
                },
            (table, row) =>
                [(table == SimRows.First.Name ? new TableName("sim", IsLow(row) ? "low" : "high") : table, $"{row.IntegerAt(0)}", row)]
        );

    /// <summary>The rows of both tables go into one.</summary>
    private static SimTreatment Combined { get; } =
        new(
            definition =>
                definition with
                {
                    Treatment = [new TreatmentStep("*", Combine: new CombinedTable("sim.both", By: OriginName.Name))],
                },
            (table, row) =>
                [(new TableName("sim", "both"), $"{table.Name}, {row.IntegerAt(0)}", Written(table.Name, row.IntegerAt(0), row.TextAt(1)))]
        );

    /// <summary>A value holds several: each becomes a row of its own, beside the row itself.</summary>
    private static SimTreatment Repeated { get; } =
        new(
            definition =>
                definition with
                {
                    Treatment = [new TreatmentStep("sim.first", Children: [new ChildRows("value", "sim.parts", "n")])],
                },
            (table, row) =>
                [
                    (table, $"{row.IntegerAt(0)}", row),
                    .. table == SimRows.First.Name
                        ? Parts(row.TextAt(1))
                            .Select(
                                (part, i) =>
                                    (new TableName("sim", "parts"), $"{row.IntegerAt(0)}, {i + 1}", Written(row.IntegerAt(0), i + 1L, part))
                            )
                        : [],
                ]
        )
        {
            Value = number => $"[{string.Join(',', Enumerable.Range(0, number % 4).Select(i => $"\"p{(number / 4 % 3) + i}\""))}]",
        };

    /// <summary>
    /// Every version of a row stays. What must be there then does not follow from the rows alone; <see cref="SimVersions"/> tells it.
    /// </summary>
    private static SimTreatment Versions { get; } =
        new(definition => definition with { Apply = [new ApplyRule("*", ApplyMode.KeepVersions)] }, (_, _) => []) { KeepsVersions = true };

    /// <summary>
    /// Of each eight worlds, two carry rows as they are and one into another engine; the others have one of the treatments.
    /// </summary>
    public static SimTreatment For(int seed) =>
        (seed / 2 % 8) switch
        {
            1 => CrossEngine,
            3 => Filtered,
            4 => Split,
            5 => Combined,
            6 => Repeated,
            7 => Versions,
            _ => None,
        };

    /// <summary>The definition with the treatment.</summary>
    public Func<CrossingDefinition, CrossingDefinition> Define { get; }

    /// <summary>A value out of a number drawn at random.</summary>
    public Func<int, string> Value { get; private init; } = number => $"v{number}";

    /// <summary>Whether the target is of another engine.</summary>
    public bool CrossesEngines { get; private init; }

    /// <summary>Whether a row of the source is one of the target, with nothing made of it.</summary>
    public bool KeepsRows => CrossesEngines || ReferenceEquals(this, None);

    /// <summary>Whether every version of a row stays. Truncated tables would be held then, so none is.</summary>
    public bool KeepsVersions { get; private init; }

    /// <summary>The target's rows for a row of the source, by their table and key.</summary>
    public IEnumerable<(TableName Table, string Key, Row Row)> Crosses(TableName table, Row row) =>
        table == SimRows.Other.Name ? [] : crosses(table, row);

    /// <summary>What the row adds to the hash of the target's state.</summary>
    public ulong Hash(TableName table, Row row) =>
        Crosses(table, row).Aggregate(0UL, (sum, there) => sum + SimRows.Hash(there.Table, there.Row));

    private static IEnumerable<string> Parts(string value) =>
        value.Trim('[', ']').Split(',', StringSplitOptions.RemoveEmptyEntries).Select(part => part.Trim('"'));

    private static bool IsLow(Row row) => string.CompareOrdinal(row.TextAt(1), "v5") < 0;

    private static Row Written(params object[] values)
    {
        var writer = new RowWriter();
        writer.Begin(values.Length);
        foreach (var value in values)
        {
            if (value is long number)
            {
                writer.Integer(number);
            }
            else
            {
                writer.Text((string)value);
            }
        }

        return writer.ToRow();
    }
}
