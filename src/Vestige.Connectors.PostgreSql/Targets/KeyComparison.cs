using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>Compares a column with a parameter whose type the server is to find out.</summary>
internal static class KeyComparison
{
    /// <summary>
    /// Beside a composite type the server takes a parameter for a record of no type, which it cannot read. As the other branch of
    /// a CASE it takes the column's type, without its length, so that nothing is cut off as by a cast; the planner leaves the
    /// parameter alone of it, and indexes serve.
    /// </summary>
    public static string Equal(Column column, int parameter)
    {
        var name = Quote.Name(column.Name);
        return IsOfUser(column.Type) ? $"{name} = CASE WHEN false THEN {name} ELSE ${parameter} END" : $"{name} = ${parameter}";
    }

    /// <summary>The server writes the schema of a type that is not its own.</summary>
    private static bool IsOfUser(string type) => type.Contains('.', StringComparison.Ordinal);
}
