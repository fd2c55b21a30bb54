namespace Vestige.Engine.Workers;

/// <summary>
/// Whether the check of a first start was just made, so that tables may be taken as they were found then. It ends with the
/// process: later nobody can tell whether they still agree. Safe for several threads.
/// </summary>
internal sealed class FirstStart
{
    private volatile bool pending;

    /// <summary>The check was made, and nothing has been taken since.</summary>
    public bool Pending
    {
        get => pending;
        set => pending = value;
    }
}
