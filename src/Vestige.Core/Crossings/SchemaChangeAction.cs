namespace Vestige.Core.Crossings;

/// <summary>What becomes of a table when its schema changes at the source.</summary>
public enum SchemaChangeAction
{
    /// <summary>What only adds columns is made on the target as well; after any other change the table waits for a person.</summary>
    Carry,

    /// <summary>After any change the table waits for a person.</summary>
    Hold,

    /// <summary>As <see cref="Carry"/>, and where the table would wait it is loaded again in place.</summary>
    Reload,
}
