namespace Vestige.Core.Crossings;

/// <summary>What becomes of the letters of names.</summary>
public enum LetterCase
{
    AsIs,
    Lower,
    Upper,
}
