namespace Vestige.Core.Routes;

/// <summary>
/// The databases that the rows of a transaction came from, the first one first. A transaction is not applied to a database that is on
/// its route, so that a loop of crossings ends after one round; whatever else came from elsewhere is carried on. Immutable.
/// </summary>
public sealed class Route
{
    /// <summary>A longer one is no route: nobody chains so many databases.</summary>
    public const int MostDatabases = 64;

    private const char Separator = ' ';
    private readonly string[] databases;

    private Route(string[] databases) => this.databases = databases;

    /// <summary>Of what was written in the database itself.</summary>
    public static Route None { get; } = new([]);

    public bool IsNone => databases.Length == 0;

    /// <summary>Reads what <see cref="ToString"/> wrote; null stands for none.</summary>
    public static Route Parse(string? text) =>
        string.IsNullOrEmpty(text)
            ? None
            : new Route([.. text.Split(Separator, StringSplitOptions.RemoveEmptyEntries).Distinct().Take(MostDatabases)]);

    public bool Has(string database) => databases.Contains(database);

    /// <summary>The route of what is carried on from a database.</summary>
    /// <param name="database">Its identity; holds no blank.</param>
    public Route From(string database)
    {
        ArgumentException.ThrowIfNullOrEmpty(database);
        return Has(database) ? this : new Route([.. databases.Take(MostDatabases - 1), database.Replace(Separator, '_')]);
    }

    public override string ToString() => string.Join(Separator, databases);
}
