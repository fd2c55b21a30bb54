namespace Vestige.Web.Views;

/// <summary>Addresses of pages, whatever characters a database's names have.</summary>
public static class Addresses
{
    /// <summary>The page of one table of a crossing; of one row when its key is given.</summary>
    public static string OfTable(string crossing, string table, string? key = null)
    {
        var address = $"/crossings/{crossing}/tables/{Uri.EscapeDataString(table)}";
        return string.IsNullOrEmpty(key) ? address : $"{address}?key={Uri.EscapeDataString(key)}";
    }

    /// <summary>The trace of a row of a source.</summary>
    public static string OfTrace(string connection, string table, string key) =>
        $"/trace?connection={Uri.EscapeDataString(connection)}&table={Uri.EscapeDataString(table)}&key={Uri.EscapeDataString(key)}";

    /// <summary>The page with some rows of a table of a connection.</summary>
    public static string OfRows(string connection, string table) => $"/connections/{connection}/tables/{Uri.EscapeDataString(table)}";

    /// <summary>The versions of a table of a connection; one of them is compared with the one before.</summary>
    public static string OfVersions(string connection, string table, int? version = null) =>
        $"/connections/{connection}/schema/{Uri.EscapeDataString(table)}{(version is { } number ? $"?version={number}" : "")}";

    /// <summary>A table's name from its address: routing leaves an escaped slash as it is.</summary>
    public static string TableFrom(string segment)
    {
        ArgumentNullException.ThrowIfNull(segment);
        return segment.Replace("%2F", "/", StringComparison.OrdinalIgnoreCase);
    }
}
