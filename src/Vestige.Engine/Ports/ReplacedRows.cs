namespace Vestige.Engine.Ports;

/// <summary>What a replacement did to the rows of a table.</summary>
/// <param name="Inserted">Rows that were not there.</param>
/// <param name="Updated">Rows that were other.</param>
/// <param name="Deleted">Rows that are not any more.</param>
public readonly record struct ReplacedRows(long Inserted, long Updated, long Deleted)
{
    public static ReplacedRows operator +(ReplacedRows left, ReplacedRows right) =>
        new(left.Inserted + right.Inserted, left.Updated + right.Updated, left.Deleted + right.Deleted);
}
