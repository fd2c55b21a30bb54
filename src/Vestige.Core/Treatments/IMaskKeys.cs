namespace Vestige.Core.Treatments;

/// <summary>The secret keys of masks, by name. Safe for several threads.</summary>
public interface IMaskKeys
{
    /// <summary>The key of that name, 32 bytes; the same at every call. Never shown or logged.</summary>
    byte[] Of(string name);
}
