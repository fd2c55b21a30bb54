using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Loading;

/// <summary>The tables of a load as a snapshot has them.</summary>
internal static class SnapshotTables
{
    /// <summary>
    /// What the definition makes of each table, and how many rows it has, about. Throws <see cref="PortException"/> where one is not there
    /// or cannot cross.
    /// </summary>
    public static async Task<IReadOnlyList<(TableTreatment Treatment, long EstimatedRows)>> TreatedAsync(
        ISourceSnapshot snapshot,
        IReadOnlyList<TableName> names,
        CrossingTreatment treating,
        CancellationToken cancellation
    )
    {
        var there = (await snapshot.ReadTablesAsync(cancellation)).ToDictionary(table => table.Schema.Name);
        var treated = new List<(TableTreatment, long)>();
        foreach (var name in names)
        {
            if (!there.TryGetValue(name, out var form) || !form.CrossesAs(treating.Definition.AppliedAs(name)))
            {
                throw new PortException(form is null ? $"The source has no table {name}." : $"{name} cannot be replicated: {form.Reason}")
                {
                    Remedy = "Change the table at the source, or take it out of the crossing.",
                };
            }

            treated.Add((treating.Build(form.Schema), form.EstimatedRows));
        }

        return treated;
    }
}
