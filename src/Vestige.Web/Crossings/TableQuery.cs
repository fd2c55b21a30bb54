using Microsoft.AspNetCore.WebUtilities;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Crossings;

/// <summary>
/// Which tables of a crossing are listed and how, as the address of a page says it. What it does not know matches nothing.
/// </summary>
/// <param name="Find">A part of the table's name at the source or on the target; empty for all.</param>
/// <param name="State">A state's word, or <c>quarantine</c> or <c>differs</c>; empty for every one.</param>
/// <param name="Order">The order.</param>
/// <param name="Page">The page, from 1 on.</param>
public sealed record TableQuery(string Find = "", string State = "", TableOrder Order = TableOrder.Worst, int Page = 1)
{
    /// <summary>Rows with changes in quarantine.</summary>
    public const string Quarantine = "quarantine";

    /// <summary>Rows that differ between source and target.</summary>
    public const string Differs = "differs";

    /// <summary>Reads the query of an address.</summary>
    public static TableQuery Of(IQueryCollection query)
    {
        ArgumentNullException.ThrowIfNull(query);
        return new TableQuery(
            query["find"].ToString().Trim(),
            query["state"].ToString(),
            Enum.TryParse<TableOrder>(query["sort"], ignoreCase: true, out var order) && Enum.IsDefined(order) ? order : TableOrder.Worst,
            int.TryParse(query["page"], out var page) ? Math.Clamp(page, 1, 1_000_000) : 1
        );
    }

    /// <summary>Whether anything is left out.</summary>
    public bool IsNarrowed => Find.Length > 0 || State.Length > 0;

    /// <summary>The tables it asks for, in its order, on all pages. Those that are equal in it stay in the order given.</summary>
    /// <param name="all">The tables of a crossing, by name.</param>
    public IReadOnlyList<TableStatus> Of(IReadOnlyList<TableStatus> all)
    {
        var found = all.Where(Matches);
        return Order switch
        {
            TableOrder.Name => [.. found],
            TableOrder.Changes => [.. found.OrderByDescending(table => table.Tally.Total)],
            TableOrder.Latest => [.. found.OrderByDescending(table => table.Tally.LastChangeAt)],
            _ => [.. found.OrderBy(RankOf)],
        };
    }

    /// <summary>The words by which tables can be narrowed, with how many there are of each, the worst first.</summary>
    public static IReadOnlyList<(string Word, int Count)> Choices(IReadOnlyList<TableStatus> all)
    {
        ArgumentNullException.ThrowIfNull(all);
        var states = all.Where(table => !table.IsOnlyQuarantined)
            .GroupBy(table => table.State)
            .OrderBy(same => RankOf(same.Key))
            .Select(same => (same.Key.Word(), same.Count()));
        return
        [
            .. new[]
            {
                (Quarantine, all.Count(table => table.Quarantined > 0)),
                (Differs, all.Count(table => table.Verdict is { Differences: > 0 })),
            }
                .Concat(states)
                .Where(choice => choice.Item2 > 0),
        ];
    }

    /// <summary>The address of a page that shows this.</summary>
    /// <param name="path">The page.</param>
    public string Address(string path)
    {
        var parts = new (string Name, string Value)[]
        {
            ("find", Find),
            ("state", State),
            ("sort", Order == TableOrder.Worst ? "" : Order.ToString().ToLowerInvariant()),
            ("page", Page > 1 ? $"{Page}" : ""),
        };
        return QueryHelpers.AddQueryString(
            path,
            parts.Where(part => part.Value.Length > 0).ToDictionary(part => part.Name, part => (string?)part.Value)
        );
    }

    private bool Matches(TableStatus table) =>
        (
            State switch
            {
                "" => true,
                Quarantine => table.Quarantined > 0,
                Differs => table.Verdict is { Differences: > 0 },
                _ => table.Word == State,
            }
        )
        && (
            Find.Length == 0
            || HasFound(table.Source)
            || table.Into.Any(HasFound)
        );

    /// <summary>Without a text of its own for each of thousands of names, unless what is looked for may reach over the dot.</summary>
    private bool HasFound(TableName name) =>
        name.Name.Contains(Find, StringComparison.OrdinalIgnoreCase)
        || name.Schema.Contains(Find, StringComparison.OrdinalIgnoreCase)
        || (Find.Contains('.', StringComparison.Ordinal) && name.ToString().Contains(Find, StringComparison.OrdinalIgnoreCase));

    /// <summary>The less, the more it needs a person.</summary>
    private static int RankOf(TableStatus table) =>
        table switch
        {
            { State: TableState.Held, Quarantined: 0 } => 0,
            { Quarantined: > 0 } => 1,
            { Verdict.Differences: > 0 } => 2,
            _ => RankOf(table.State),
        };

    private static int RankOf(TableState state) =>
        state switch
        {
            TableState.Held => 3,
            TableState.Loading => 4,
            TableState.Waiting => 5,
            TableState.CatchingUp => 6,
            TableState.Following => 7,
            _ => 8,
        };
}
