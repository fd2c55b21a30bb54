using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>Finds single rows among repairs.</summary>
internal static class RepairedRows
{
    /// <summary>What repairs did to each row, the earliest first, for finding many of them.</summary>
    /// <param name="repairs">The repairs, the latest first.</param>
    public static ILookup<(TableName Table, RowKey Key), RowRepair> ByRow(IReadOnlyList<Repair> repairs) =>
        repairs
            .Reverse()
            .SelectMany(repair => repair.Rows.Where(row => row.Note is null).Select(row => new RowRepair(repair, row)))
            .ToLookup(one => (one.Row.Source, RowKey.Of(one.Row.Key)));

    /// <summary>What repairs did to one row, the earliest first. Rows that they left as they were do not count.</summary>
    /// <param name="repairs">The repairs, the latest first.</param>
    /// <param name="table">The source's table.</param>
    /// <param name="key">The row's key by its columns, as a person reads them.</param>
    public static IReadOnlyList<RowRepair> Of(IReadOnlyList<Repair> repairs, TableName table, IReadOnlyList<string> key) =>
        [
            .. repairs
                .Reverse()
                .SelectMany(repair =>
                    repair
                        .Rows.Where(row =>
                            row.Note is null && row.Source == table && row.Key.Ordinals.Select(row.Key.DisplayAt).SequenceEqual(key)
                        )
                        .Select(row => new RowRepair(repair, row))
                ),
        ];
}
