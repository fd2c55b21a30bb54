using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Crossings;

/// <summary>Finds the tables of a crossing by the names under which they are shown.</summary>
public static class TablesOf
{
    /// <summary>
    /// The table of that name, or what the text says where the crossing has none. Throws <see cref="RequestRefusedException"/> for what is
    /// no name of a table.
    /// </summary>
    public static TableName Named(CrossingStatus? status, string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        if (status?.Tables.FirstOrDefault(table => table.Source.ToString() == text) is { } known)
        {
            return known.Source;
        }

        try
        {
            return TableName.Parse(text);
        }
        catch (FormatException exception)
        {
            throw new RequestRefusedException(exception.Message, exception) { Remedy = "Name a table of the crossing as schema.table." };
        }
    }

    /// <summary>
    /// The tables of a crossing among those that were asked for, in its order, and what of them is none of its tables, sorted.
    /// </summary>
    public static (IReadOnlyList<TableStatus> Chosen, IReadOnlyList<string> Unknown) Choose(
        CrossingStatus status,
        IEnumerable<string> asked
    )
    {
        ArgumentNullException.ThrowIfNull(status);
        var wanted = asked.Where(one => one.Length > 0).ToHashSet();
        List<TableStatus> chosen = [.. status.Tables.Where(one => wanted.Contains(one.Source.ToString()))];
        return (chosen, [.. wanted.Except(chosen.Select(one => one.Source.ToString())).Order()]);
    }

    /// <summary>The tables that a person can choose from, held ones first, up to a number; the others are found by name.</summary>
    public static IReadOnlyList<TableStatus> Listed(CrossingStatus status, string search, int most)
    {
        ArgumentNullException.ThrowIfNull(status);
        return
        [
            .. status
                .Tables.Where(one => one.Source.ToString().Contains(search, StringComparison.OrdinalIgnoreCase))
                .OrderBy(one => one.State != TableState.Held)
                .ThenBy(one => one.Source)
                .Take(most),
        ];
    }

    /// <summary>The same with those that are chosen first, whatever is searched for.</summary>
    public static IReadOnlyList<TableStatus> Listed(
        CrossingStatus status,
        IReadOnlyCollection<TableName> chosen,
        string search,
        int most
    )
    {
        ArgumentNullException.ThrowIfNull(status);
        return
        [
            .. status
                .Tables.Where(one =>
                    chosen.Contains(one.Source) || one.Source.ToString().Contains(search, StringComparison.OrdinalIgnoreCase)
                )
                .OrderBy(one => !chosen.Contains(one.Source))
                .ThenBy(one => one.Source)
                .Take(most),
        ];
    }

    /// <summary>The tables as a query, each as table=schema.table.</summary>
    public static string QueryOf(IEnumerable<string> tables) =>
        string.Join('&', tables.Select(table => $"table={Uri.EscapeDataString(table)}"));

    /// <summary>The tables of these names; empty for none. Throws as the other does.</summary>
    public static IReadOnlyList<TableName> Named(CrossingStatus? status, IEnumerable<string>? texts) =>
        [.. (texts ?? []).Distinct().Select(text => Named(status, text))];
}
