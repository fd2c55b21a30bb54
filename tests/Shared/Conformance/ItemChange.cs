using Vestige.Core.Changes;

namespace Vestige.Tests.Conformance;

/// <summary>A change of a row of <c>item (id, v)</c>, or a row of the table that nobody asks for.</summary>
/// <param name="Kind">What happens; to a row that is not there, nothing.</param>
/// <param name="Id">Which row.</param>
/// <param name="V">Its value after it.</param>
/// <param name="IsOther">Whether it is of the other table.</param>
public readonly record struct ItemChange(ChangeKind Kind, long Id, string? V, bool IsOther)
{
    public static ItemChange Insert(long id, string v) => new(ChangeKind.Insert, id, v, IsOther: false);

    public static ItemChange Update(long id, string v) => new(ChangeKind.Update, id, v, IsOther: false);

    public static ItemChange Delete(long id) => new(ChangeKind.Delete, id, null, IsOther: false);

    public static ItemChange Other(long id) => new(ChangeKind.Insert, id, null, IsOther: true);

    /// <summary>As a statement that every database understands.</summary>
    public string Statement =>
        Kind switch
        {
            _ when IsOther => $"INSERT INTO other VALUES ({Id})",
            ChangeKind.Insert => $"INSERT INTO item VALUES ({Id}, '{V}')",
            ChangeKind.Update => $"UPDATE item SET v = '{V}' WHERE id = {Id}",
            _ => $"DELETE FROM item WHERE id = {Id}",
        };
}
